//! Two parts of a program, each with tables of its own, put together into one cache; deleting in
//! one cascades into the other: `cargo run -p backwater --example two_parts`.

use backwater::{Cache, SchemaBuilder, error::Result};

/// The timetable knows vessels and sailings, and nothing of bookings.
mod timetable {
    use backwater::error::Result;
    use backwater::{Cache, Derived, Id, Link, SchemaBuilder, Table, Values};

    #[derive(Debug, Clone, Copy, PartialEq, Values)]
    pub(crate) enum Status {
        #[values("on time")]
        OnTime,
        Cancelled,
    }

    #[derive(Debug, Table)]
    pub(crate) struct Vessel {
        #[table(id)]
        pub(crate) name: String,
        pub(crate) cars_max: i64,
    }

    #[derive(Debug, Table)]
    pub(crate) struct Sailing {
        #[table(id = "int")]
        pub(crate) id: Id<Sailing>,
        pub(crate) vessel: Link<Vessel>,
        pub(crate) status: Status,
    }

    pub(crate) fn declare(schema: SchemaBuilder) -> SchemaBuilder {
        schema.table::<Vessel>().table::<Sailing>()
    }

    pub(crate) fn load(cache: &Cache) -> Result<()> {
        let loaded = cache.commit("timetable loaded", |tx| {
            tx.table::<Vessel>()?.insert(&Vessel { name: "Marram".into(), cars_max: 3 })?;
            let mut sailings = tx.table::<Sailing>()?;
            for id in [311, 312] {
                let (vessel, status) = (Link::to("Marram"), Status::OnTime);
                sailings.insert(&Sailing { id: Id::new(id), vessel, status })?;
            }
            Ok(())
        });
        loaded.map(drop)
    }

    /// How many sailings leave as they should.
    pub(crate) fn on_time(cache: &Cache) -> Derived<usize> {
        cache.derived("sailings on time", |read| {
            let sailings = read.table::<Sailing>()?;
            Ok(sailings.here().filter(|sailing| sailing.status == Status::OnTime).count())
        })
    }
}

/// The desk knows bookings, and of the timetable only what it links to.
mod desk {
    use backwater::error::Result;
    use backwater::{Cache, Id, Link, SchemaBuilder, Table, derived::DerivedBy};

    use super::timetable::{Sailing, Vessel};

    #[derive(Debug, Table)]
    pub(crate) struct Booking {
        #[table(id)]
        pub(crate) number: i64,
        /// A booking goes with its sailing.
        #[table(on_delete = "cascade")]
        pub(crate) sailing: Link<Sailing>,
        pub(crate) cars: i64,
    }

    pub(crate) fn declare(schema: SchemaBuilder) -> SchemaBuilder {
        schema.table::<Booking>()
    }

    pub(crate) fn book(cache: &Cache, number: i64, sailing: Id<Sailing>, cars: i64) -> Result<()> {
        let booked = cache.commit(format!("{cars} cars booked"), |tx| {
            tx.table::<Booking>()?.insert(&Booking { number, sailing: sailing.into(), cars })
        });
        booked.map(drop)
    }

    /// How many cars a sailing still takes.
    pub(crate) fn room(cache: &Cache) -> DerivedBy<Id<Sailing>, Option<i64>> {
        cache.derived_by("room left", |read, id: &Id<Sailing>| {
            let Some(sailing) = read.table::<Sailing>()?.get(id).here() else { return Ok(None) };
            let vessel = read.table::<Vessel>()?.get(&sailing.vessel).here();
            let bookings = read.table::<Booking>()?;
            let booked =
                bookings.pointing_at(Booking::SAILING, id).filter_map(|found| found.here());
            let booked: i64 = booked.map(|booking| booking.cars).sum();
            Ok(vessel.map(|vessel| vessel.cars_max - booked))
        })
    }
}

fn main() -> Result<()> {
    let schema = [timetable::declare, desk::declare]
        .into_iter()
        .fold(SchemaBuilder::default(), |schema, part| part(schema));
    let cache = Cache::new(schema.build()?);
    timetable::load(&cache)?;
    let (on_time, room) = (timetable::on_time(&cache), desk::room(&cache));
    let first = backwater::Id::<timetable::Sailing>::new(311);
    desk::book(&cache, 1, first, 2)?;
    println!(
        "{} sailings on time, room for {:?} on the first",
        on_time.get()?,
        room.of(first).get()?
    );
    assert_eq!(*room.of(first).get()?, Some(1));

    // A booking is none of the timetable's business: its value does not run again.
    assert_eq!((*on_time.get()?, on_time.runs()), (2, 1));

    let report = cache.commit("a sailing taken out", |tx| {
        tx.table::<timetable::Sailing>()?.delete(first).map(drop)
    })?;
    report.changes().for_each(|change| println!("{change}"));
    assert_eq!(cache.snapshot().table::<desk::Booking>()?.len(), 0); // gone with its sailing
    assert_eq!((*on_time.get()?, *room.of(first).get()?), (1, None));
    Ok(())
}
