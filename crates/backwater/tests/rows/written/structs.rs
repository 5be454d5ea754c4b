use backwater::{Json, Link, Links, OneOf, Table, Timestamp, Values};

#[derive(Debug, Clone, PartialEq, Values)]
pub enum LiveSailingStatus {
    #[values("on time")]
    OnTime,
    Delayed,
    #[values("?")]
    N,
}

#[derive(Debug, Clone, PartialEq, Values)]
pub enum LinkDeck {
    #[values(-1)]
    Minus1,
    #[values(0)]
    N0,
    #[values(7)]
    N7,
}

#[derive(Debug, Clone, PartialEq, Values)]
pub enum LinkSide {
    Port,
    Starboard,
    #[values("self")]
    Self_,
}

#[derive(Debug, Clone, PartialEq, OneOf)]
pub enum LinkAboutUs {
    LiveSailing(Link<LiveSailing>),
    SeatMap(Link<SeatMap>),
}

#[derive(Debug, Clone, PartialEq, OneOf)]
pub enum LinkAboutUs_ {
    #[one_of("harbour")]
    Harbour(Link<Port>),
    #[one_of("haven")]
    Haven(Link<Port>),
    #[one_of("board")]
    Board(Link<Link_>),
}

#[derive(Debug, Clone, PartialEq, OneOf)]
pub enum LinkAlso_ {
    #[one_of("a")]
    A(Link<Port>),
    #[one_of("b")]
    B(Link<Link_>),
}

#[derive(Debug, Clone, PartialEq, OneOf)]
pub enum LinkLast {
    Port(Link<Port>),
}

#[derive(Debug, Clone, PartialEq, OneOf)]
pub enum LinkAlsoFirstPort {
    Port(Link<Port>),
    Link(Link<Link_>),
}

#[derive(Debug, Clone, PartialEq, OneOf)]
pub enum LinkAlsoLast {
    Link(Link<Link_>),
    Port(Link<Port>),
}

#[derive(Debug, Clone, PartialEq, Values)]
pub enum LinkAlsoState {
    #[values(1)]
    N1,
    #[values(2)]
    N2,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[table(persist = false, resource = "harbours", was = ["harbour", "haven"])]
pub struct Port {
    #[table(id)]
    pub code: String,
    #[table(was = "title", from = "/title/en")]
    pub name: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[table(version = "updated_at", unique = "number", unique = ["from", "berth"], tombstone = "/deleted", expires_after = "7 days", unknown = "error")]
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
    pub number: Option<String>,
    pub berth: Option<i64>,
    #[table(from = ["/seenAt", "/seen/at"], unit = "seconds")]
    pub seen_at: Option<Timestamp>,
    #[table(to = "live_sailing", by = "number", on_delete = "set null")]
    pub after: Option<String>,
    #[table(from = "/fromHere", record = "/a~1b/node")]
    pub from_here: Links<Port>,
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

#[derive(Debug, Clone, PartialEq, Table)]
#[table(name = "link", unknown(keep = "extras"))]
pub struct Link_ {
    #[table(id = "int", was = ["level", "floor"])]
    pub deck: LinkDeck,
    #[table(id = "text")]
    pub side: LinkSide,
    pub extras: Option<Json>,
    #[table(name = "about us", on_delete = "cascade")]
    pub about_us: Option<LinkAboutUs>,
    #[table(name = "about_us", type_field = "kind", type_member = "is")]
    pub about_us_: Option<LinkAboutUs_>,
    #[table(persist = false, link_table = "more", type_member = "is")]
    pub also: Vec<LinkAlso_>,
    #[table(persist = false)]
    pub last: Option<LinkLast>,
    #[table(name = "about us_type", required, from = "/us")]
    pub about_us_type: String,
}

#[derive(Debug, Clone, PartialEq, Table)]
pub struct LinkAlso {
    #[table(id)]
    pub id: i64,
    #[table(from = "/firstPort", other_types = "skip")]
    pub first_port: Option<LinkAlsoFirstPort>,
    #[table(other_types(to = "port"))]
    pub last: Option<LinkAlsoLast>,
    pub state: Option<LinkAlsoState>,
    #[table(from = "/firstPortType")]
    pub first_port_type: Option<String>,
    #[table(from = "/lastType")]
    pub last_type: Option<String>,
}
