//! Ids of several parts, links of every kind and their tables, as a statement sees them and as
//! SQLite sees them in the image.

use crate::storage::image;
use crate::{Cache, Schema, Value};

use super::queries_equal_sqlite::sql;

const SCHEMA: &str = r#"
    table.port = { id = "code", fields = { code = "text" } }
    table.sailing = { id = "id", fields = { id = "int", stops = { to_many = "port" }, best = { to = "cabin" }, any = { to = ["port", "sailing", "cabin"] }, seen = { to_many = ["port", "sailing"] } } }
    table.cabin = { id = ["sailing", "deck", "number"], fields = { beds = "int", number = "int", deck = "text", sailing = { to = "sailing" } } }
    table.bed = { id = ["cabin", "n"], fields = { cabin = { to = "cabin" }, n = "int" } }
"#;

#[test]
fn rows_keys_and_order_are_those_of_the_image() {
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let mut random = 7_u64;
    let mut roll = |of: u64| {
        random =
            random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (random >> 33) % of
    };
    for round in 0..60 {
        let commit = cache.commit("some rows", |tx| {
            for _ in 0..roll(8) {
                let (id, n) = (roll(30) as i64, roll(3) as i64);
                let deck = ["A", "b", "é\"", "10"][roll(4) as usize];
                let cabin = crate::RowId::from((id, deck, n));
                let ports = ["P9", "P10", "ä"];
                tx.merge("sailing", [("id", Value::from(id)), ("best", cabin.clone().into())])?;
                tx.merge(
                    "cabin",
                    [("sailing", Value::from(id)), ("deck", deck.into()), ("number", n.into())],
                )?;
                tx.merge(
                    "bed",
                    [("cabin", Value::from(cabin.clone())), ("n", Value::from(roll(4) as i64))],
                )?;
                let any: (&str, Value) = match roll(4) {
                    0 => ("port", ports[roll(3) as usize].into()),
                    1 => ("sailing", (roll(40) as i64).into()),
                    _ => ("cabin", cabin.into()),
                };
                tx.update("sailing", id, [("any_type", any.0.into()), ("any", any.1)])?;
                tx.set_links(
                    "sailing",
                    id,
                    "stops",
                    (0..roll(4)).map(|n| ports[n as usize % 3]).collect::<Vec<_>>(),
                )?;
                let seen = [("port", crate::RowId::from("P9")), ("sailing", crate::RowId::from(n))];
                tx.set_typed_links("sailing", id, "seen", seen[..roll(3) as usize].to_vec())?;
                if roll(5) == 0 {
                    tx.delete(["sailing", "cabin"][roll(2) as usize], roll(30) as i64).or_else(
                        |error| {
                            assert_eq!(error.kind(), crate::ErrorKind::Type);
                            Ok::<bool, crate::Error>(false)
                        },
                    )?;
                    tx.delete("bed", ((n, deck, n), 1))?;
                }
            }
            Ok(())
        });
        commit.unwrap();
        if round % 6 > 0 {
            continue;
        }
        let image = image(&cache.snapshot().state);
        let statements = [
            "SELECT code FROM port",
            "SELECT id, stops, best, \"any\", any_type, seen FROM sailing",
            "SELECT sailing, deck, number, beds FROM cabin",
            "SELECT cabin, n FROM bed WHERE cabin >= '[1'",
            "SELECT owner, position, target FROM sailing_stops WHERE target > 'P1'",
            "SELECT owner, position, target, target_type FROM sailing_seen",
            "SELECT id FROM sailing WHERE \"any\" = 12 OR \"any\" = '7'",
            "SELECT \"any\", count(*) FROM sailing GROUP BY \"any\"",
            "SELECT owner, count(*), max(target) FROM sailing_stops GROUP BY owner ORDER BY 2 DESC",
        ];
        for statement in statements {
            let ours = cache.query(statement, ()).unwrap().read().unwrap();
            let ours: Vec<Vec<_>> =
                ours.rows().map(|row| row.values().iter().map(sql).collect()).collect();
            // Rows come in the order of their keys, as a clustered table is read.
            let mut prepared = image.prepare(statement).unwrap();
            let columns = prepared.column_count();
            let theirs = prepared.query_map([], |row| (0..columns).map(|n| row.get(n)).collect());
            let theirs: Vec<Vec<rusqlite::types::Value>> =
                theirs.unwrap().map(Result::unwrap).collect();
            assert_eq!(ours, theirs, "{statement}");
        }
    }
}
