use backwater::{Json, Link, Links, Table, Timestamp, Values};

#[derive(Debug, Clone, PartialEq, Values)]
pub enum LiveSailingStatus {
    #[values("on time")]
    OnTime,
    Delayed,
    #[values("?")]
    N,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[table(persist = false, resource = "harbours", was = "harbour")]
pub struct Port {
    #[table(id)]
    pub code: String,
    #[table(was = "title", from = "/title/en")]
    pub name: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[table(version = "updated_at", tombstone = "/deleted", expires_after = "7 days", unknown = "error")]
pub struct LiveSailing {
    #[table(id)]
    pub id: i64,
    #[table(on_delete = "set null")]
    pub from: Option<Link<Port>>,
    #[table(on_delete = "restrict", link_table = "calls")]
    pub stops: Links<Port>,
    #[table(required)]
    pub status: LiveSailingStatus,
    #[table(from = "/departsAt")]
    pub departs_at: Option<Timestamp>,
    pub share: Option<f64>,
    #[table(persist = false)]
    pub open: Option<bool>,
    pub extras: Option<Json>,
    pub r#type: Option<String>,
    #[table(name = "up to")]
    pub up_to: Option<i64>,
    #[table(from = "/updatedAt")]
    pub updated_at: Option<i64>,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[table(name = "Seat map", expires_after = "90 min")]
pub struct SeatMap {
    #[table(id, on_delete = "cascade")]
    pub sailing: Link<LiveSailing>,
    #[table(id)]
    pub number: String,
}

#[derive(Debug, Clone, Default, PartialEq, Table)]
#[table(one_row)]
pub struct Board {
    #[table(persist = false)]
    pub search: Option<String>,
    pub port: Option<Link<Port>>,
}
