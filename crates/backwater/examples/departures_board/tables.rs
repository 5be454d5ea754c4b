//! What the board knows: its tables as structs, and what it asks.

use backwater::{
    Cache, FromRow, Id, Link, Request, Schema, Table, Timestamp, Values, error::Result,
};

#[derive(Debug, Table)]
pub(crate) struct Port {
    #[table(id)]
    pub(crate) code: String,
    pub(crate) name: String,
}

#[derive(Debug, Table)]
pub(crate) struct Route {
    #[table(id)]
    pub(crate) id: String,
    pub(crate) from: Link<Port>,
    pub(crate) to: Link<Port>,
    pub(crate) minutes: i64,
}

#[derive(Debug, Table)]
pub(crate) struct Vessel {
    #[table(id)]
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) cars_max: i64,
}

#[derive(Debug, Clone, Copy, PartialEq, Values)]
pub(crate) enum Status {
    #[values("on time")]
    OnTime,
    Boarding,
    Delayed,
    Departed,
    Cancelled,
}

#[derive(Debug, Table)]
pub(crate) struct Sailing {
    #[table(id = "int")]
    pub(crate) id: Id<Sailing>,
    pub(crate) route: Link<Route>,
    pub(crate) vessel: Link<Vessel>,
    pub(crate) status: Status,
    pub(crate) departs_at: Timestamp,
    pub(crate) delay_min: Option<i64>,
    pub(crate) cars_booked: i64,
    pub(crate) note: Option<String>,
}

#[derive(Debug, Table)]
pub(crate) struct Booking {
    #[table(id)]
    pub(crate) id: i64,
    #[table(on_delete = "cascade")]
    pub(crate) sailing: Link<Sailing>,
    pub(crate) party: String,
    pub(crate) cars: i64,
    pub(crate) paid: bool,
}

/// What the view shows is a row like any other: queries take their parameters from it.
#[derive(Debug, Default, Table)]
#[table(one_row)]
pub(crate) struct Board {
    pub(crate) port: Option<Link<Port>>,
    #[table(persist = false)]
    pub(crate) search: String,
    pub(crate) now: Timestamp,
    pub(crate) selected: Option<Link<Sailing>>,
}

/// The answers that the server gives, and what is asked of them.
const RULES: &str = r#"
[response.departures]
records = "/sailings"
table = "sailing"

[response.bookings]
url = "/sailings/{sailing}/bookings"
records = "/bookings"
table = "booking"
fields = { sailing = ":sailing" }

# What the server pushes: rows of several tables, and the time.
[response.change]
beside.sailing = "/sailings"
beside.booking = "/bookings"
beside.vessel = "/vessels"
beside.port = "/ports"
beside.board = { now = "/at" }

[feed.changes]
url = "/feed.ndjson{?since}"
format = "ndjson"
kind = "/kind"
position = "/seq"
resume = ":since"
label = "/label"
events.change = "change"
events.booking_cancelled = { delete = "booking" }

[query]
departures = """
SELECT s.id, s.departs_at, "to".name AS destination, v.name AS vessel, s.status, s.delay_min,
  v.cars_max - s.cars_booked AS places
FROM sailing AS s
JOIN route AS r ON r.id = s.route
JOIN port AS "to" ON "to".code = r."to"
LEFT JOIN vessel AS v ON v.id = s.vessel
WHERE r."from" = :port AND s.departs_at >= :now
  AND contains(concat_ws(' ', "to".name, v.name, s.status, s.note), :search)
ORDER BY s.departs_at"""

statuses = """
SELECT s.status, count(*) AS sailings, sum(s.cars_booked) AS cars
FROM sailing AS s
JOIN route AS r ON r.id = s.route
WHERE r."from" = :port
GROUP BY s.status"""

bookings = """
SELECT party, cars, paid
FROM booking
WHERE sailing = :sailing
ORDER BY party COLLATE UNICODE"""
"#;

/// A line of the board.
#[derive(Debug, Clone, PartialEq, FromRow)]
pub(crate) struct Departure {
    pub(crate) id: Id<Sailing>,
    pub(crate) departs_at: Timestamp,
    pub(crate) destination: Option<String>,
    pub(crate) vessel: Option<String>,
    pub(crate) status: Option<Status>,
    pub(crate) delay_min: Option<i64>,
    pub(crate) places: Option<i64>,
}

/// A cache with a morning's departures in it.
pub(crate) fn load() -> Result<Cache> {
    let schema = Schema::builder()
        .text("departures_board", RULES)
        .table::<Port>()
        .table::<Route>()
        .table::<Vessel>()
        .table::<Sailing>()
        .table::<Booking>()
        .table::<Board>();
    let clock = backwater::SystemClock::new();
    let cache =
        Cache::builder().schema(schema.build()?).clock(clock).remember_commits(200).build()?;
    let departures = include_str!("../../../../demo/responses/departures.json");
    let bookings = include_str!("../../../../demo/responses/bookings-311.json");
    cache.commit("departures loaded", |tx| {
        tx.ingest("departures", departures)?;
        tx.ingest(Request::get("/sailings/311/bookings"), bookings)?;
        tx.table::<Board>()?.set(|board| {
            board.port = Some(Link::to("SAL"));
            board.now = "2031-05-04T07:40:00+02:00".parse().unwrap_or_default();
        })
    })?;
    Ok(cache)
}
