//! A result is the same whichever way it was computed: followed at each commit, caught up with when
//! it is read, gone over to from other values, or from nothing. So are the keys of its rows.
//!
//! `BACKWATER_CASES` sets how many cases are tried.

use proptest::prelude::*;

use super::choices::{Choices, Statement};
use super::nothing_meanwhile;
use super::queries_equal_sqlite::case_count;
use super::world::World;
use crate::schema::Tuning;
use crate::{Cache, Named, Query, Schema, Value, Watch};

/// A statement in four caches that are written to alike.
struct Ways {
    statement: Statement,
    eager: (Query, Watch),
    lazy: Query,
    rebound: Query,
}

/// The rows with their keys; nothing where they cannot be computed.
type Rows = Option<Vec<(Vec<Value>, Vec<Value>)>>;

fn rows(query: &Query) -> Rows {
    let result = query.read().ok()?;
    let rows = result.rows().map(|row| (row.key().to_vec(), row.values().to_vec()));
    Some(rows.collect())
}

impl Ways {
    /// `None` if the statement is of a kind that is refused with reason.
    fn new([eager, lazy, rebound, _]: &[Cache; 4], statement: Statement) -> Option<Self> {
        let query = |cache: &Cache| {
            let given: Named = statement.params.iter().cloned().collect();
            cache.query(&statement.sql, given).ok()
        };
        let (eager, lazy, rebound) = (query(eager)?, query(lazy)?, query(rebound)?);
        let watch = eager.keep_current();
        Some(Self { eager: (eager, watch), lazy, rebound, statement })
    }

    /// Goes over to other values, and back.
    fn rebind(&self, cache: &Cache, others: Vec<(&'static str, Value)>) {
        cache.rebind("there", &self.rebound, others.into_iter().collect::<Named>()).unwrap();
        let given: Named = self.statement.params.iter().cloned().collect();
        cache.rebind("and back", &self.rebound, given).unwrap();
    }

    fn check(&self, anew: &Cache) -> Result<(), TestCaseError> {
        let given: Named = self.statement.params.iter().cloned().collect();
        let anew = rows(&anew.query(&self.statement.sql, given).unwrap());
        for (way, query) in
            [("eager", &self.eager.0), ("lazy", &self.lazy), ("rebound", &self.rebound)]
        {
            prop_assert_eq!(rows(query), anew.clone(), "{}: {:?}", way, self.statement);
        }
        Ok(())
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: case_count() / 2, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_result_is_the_same_whichever_way_it_was_computed(
        world in prop::collection::vec(any::<u16>(), 0..40),
        statements in prop::collection::vec(prop::collection::vec(any::<u16>(), 0..60), 1..4),
        commits in prop::collection::vec(prop::collection::vec(any::<u16>(), 0..60), 1..9),
        tuning in Tuning::any(),
    ) {
        nothing_meanwhile(|_| true);
        let world = World::of(&world);
        let caches: [Cache; 4] = std::array::from_fn(|_| {
            let schema = Schema { tuning, ..Schema::parse("test.toml", &world.text()).unwrap() };
            // What was computed before must not be come back to.
            Cache::builder().schema(schema).keep_results(0).build().unwrap()
        });
        let mut ways: Vec<Ways> = Vec::new();
        for (number, commit) in commits.iter().enumerate() {
            for cache in &caches {
                Choices::new(commit, &world).write(cache);
            }
            if number == 0 {
                let statements = statements.iter().map(|of| Choices::new(of, &world).statement());
                ways.extend(statements.filter_map(|statement| Ways::new(&caches, statement)));
            }
            let mut choices = Choices::new(commit, &world);
            for way in &ways {
                way.rebind(&caches[2], choices.other_values(&way.statement.params));
            }
            if number % 3 == 0 || number + 1 == commits.len() {
                for way in &ways {
                    way.check(&caches[3])?;
                }
            }
        }
    }
}
