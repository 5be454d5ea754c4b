//! A change is shown at once, before the server has answered, then confirmed or withdrawn:
//! `cargo run -p backwater --example show_at_once`.

use backwater::{Cache, Report, Schema, Table, error::Result};

#[derive(Debug, Table)]
struct Booking {
    #[table(id)]
    id: i64,
    party: String,
    cars: i64,
    /// Whether the server has yet to say yes.
    #[table(default)]
    pending: bool,
}

/// What the server says to more cars for a booking.
enum Answer {
    Yes,
    NoRoom,
}

/// Shows more cars for a booking before the server has agreed.
fn ask_for(cache: &Cache, booking: i64, cars: i64) -> Result<Report> {
    let asked = cache.commit(format!("{cars} cars asked for"), |tx| {
        tx.table::<Booking>()?.update(booking, |booking| {
            booking.cars = cars;
            booking.pending = true;
        })
    });
    Ok(asked?.report)
}

/// Keeps what was shown, or takes it back; what came in between stays.
fn answered(cache: &Cache, booking: i64, shown: &Report, answer: Answer) -> Result<Report> {
    match answer {
        Answer::Yes => {
            let confirmed = cache.commit("confirmed", |tx| {
                tx.table::<Booking>()?.write(booking, Booking::PENDING, false)
            });
            Ok(confirmed?.report)
        }
        Answer::NoRoom => cache.withdraw("no room", shown),
    }
}

fn main() -> Result<()> {
    let cache = Cache::new(Schema::builder().table::<Booking>().build()?);
    let cars = cache.query("SELECT sum(cars) FROM booking", ())?.typed::<(i64,)>()?;
    let _log = cache.watch_commits(|report| {
        println!("commit {}: {}", report.number(), report.label());
        report.changes().for_each(|change| println!("    {change}"));
    })?;
    cache.commit("bookings loaded", |tx| {
        let mut bookings = tx.table::<Booking>()?;
        bookings.insert(&Booking { id: 1, party: "Heron".into(), cars: 1, pending: false })?;
        bookings.insert(&Booking { id: 2, party: "Skerry".into(), cars: 2, pending: false })
    })?;

    let shown = ask_for(&cache, 1, 2)?;
    assert_eq!(cars.first()?, Some((4,))); // every view has it already
    answered(&cache, 1, &shown, Answer::Yes)?;

    let shown = ask_for(&cache, 2, 5)?;
    // Meanwhile the feed delivers another name; withdrawing must leave that alone.
    cache.commit("live change", |tx| {
        tx.table::<Booking>()?.write(2, Booking::PARTY, "Skerry & Sons".to_owned())
    })?;
    answered(&cache, 2, &shown, Answer::NoRoom)?;

    let snapshot = cache.snapshot();
    let booking = snapshot.table::<Booking>()?.get(2).here();
    println!("{booking:?}");
    assert_eq!(cars.first()?, Some((4,)));
    assert!(
        booking.is_some_and(|it| (&*it.party, it.cars, it.pending) == ("Skerry & Sons", 2, false))
    );
    Ok(())
}
