//! The same work written by hand: structs with owned strings, one map for each kind.

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use serde::{Deserialize, Deserializer};

#[derive(Deserialize)]
struct Page {
    sailings: Vec<SailingJson>,
}

#[derive(Deserialize)]
struct SailingJson {
    id: i64,
    route: RouteJson,
    vessel: Vessel,
    status: Status,
    #[serde(deserialize_with = "micros")]
    departs_at: i64,
    delay_min: Option<i64>,
    cars_booked: i64,
    #[serde(default)]
    pub(crate) note: Option<Box<str>>,
}

#[derive(Deserialize)]
struct RouteJson {
    id: Box<str>,
    from: Port,
    to: Port,
    minutes: i64,
}

#[derive(Deserialize, PartialEq)]
pub(crate) struct Port {
    pub(crate) code: Box<str>,
    pub(crate) name: Box<str>,
    pub(crate) island: Box<str>,
}

#[derive(Deserialize, PartialEq)]
pub(crate) struct Vessel {
    pub(crate) id: Box<str>,
    pub(crate) name: Box<str>,
    pub(crate) cars_max: i64,
}

#[derive(PartialEq)]
pub(crate) struct Route {
    pub(crate) from: Box<str>,
    pub(crate) to: Box<str>,
    pub(crate) minutes: i64,
}

#[derive(PartialEq)]
pub(crate) struct Sailing {
    pub(crate) route: Box<str>,
    pub(crate) vessel: Box<str>,
    pub(crate) status: Status,
    pub(crate) departs_at: i64,
    pub(crate) delay_min: Option<i64>,
    pub(crate) cars_booked: i64,
    pub(crate) note: Option<Box<str>>,
}

#[derive(Deserialize, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Status {
    #[serde(rename = "on time")]
    OnTime,
    #[serde(rename = "boarding")]
    Boarding,
    #[serde(rename = "delayed")]
    Delayed,
    #[serde(rename = "departed")]
    Departed,
    #[serde(rename = "cancelled")]
    Cancelled,
}

impl Status {
    pub(crate) fn of(text: &str) -> anyhow::Result<Self> {
        let all = [Self::OnTime, Self::Boarding, Self::Delayed, Self::Departed, Self::Cancelled];
        let found = all.into_iter().find(|status| status.text() == text);
        found.ok_or_else(|| anyhow::anyhow!("{text} is no status"))
    }

    pub(crate) fn text(self) -> &'static str {
        match self {
            Status::OnTime => "on time",
            Status::Boarding => "boarding",
            Status::Delayed => "delayed",
            Status::Departed => "departed",
            Status::Cancelled => "cancelled",
        }
    }
}

fn micros<'de, D: Deserializer<'de>>(deserializer: D) -> Result<i64, D::Error> {
    let text = <std::borrow::Cow<'de, str>>::deserialize(deserializer)?;
    let time: jiff::Timestamp = text.parse().map_err(serde::de::Error::custom)?;
    Ok(time.as_microsecond())
}

/// One map for each kind.
#[derive(Default)]
pub(crate) struct Maps {
    pub(crate) ports: HashMap<Box<str>, Port>,
    pub(crate) routes: HashMap<Box<str>, Route>,
    pub(crate) vessels: HashMap<Box<str>, Vessel>,
    pub(crate) sailings: HashMap<i64, Sailing>,
}

/// A row that changed: which, and which of its fields by their bits; all of them if it is new.
pub(crate) enum Changed {
    Port(Box<str>, u8),
    Route(Box<str>, u8),
    Vessel(Box<str>, u8),
    Sailing(i64, u8),
}

/// Every field of a new row.
pub(crate) const NEW: u8 = u8::MAX;

impl Maps {
    pub(crate) fn with_room(sailings: usize) -> Self {
        Self { sailings: HashMap::with_capacity(sailings), ..Self::default() }
    }

    /// Reads a page and merges it; a page that cannot be read changes nothing.
    pub(crate) fn ingest(&mut self, json: &[u8]) -> serde_json::Result<Vec<Changed>> {
        let page: Page = serde_json::from_slice(json)?;
        let mut report = Vec::new();
        for sailing in page.sailings {
            let (from, to) = (sailing.route.from.code.clone(), sailing.route.to.code.clone());
            self.port(sailing.route.from, &mut report);
            self.port(sailing.route.to, &mut report);
            let route = Route { from, to, minutes: sailing.route.minutes };
            let route_id = sailing.route.id;
            let bits = |old: &Route| {
                u8::from(old.from != route.from)
                    | u8::from(old.to != route.to) << 1
                    | u8::from(old.minutes != route.minutes) << 2
            };
            match self.routes.get(&route_id) {
                Some(old) if *old == route => {}
                old => {
                    report.push(Changed::Route(route_id.clone(), old.map_or(NEW, bits)));
                    self.routes.insert(route_id.clone(), route);
                }
            }
            let vessel_id = sailing.vessel.id.clone();
            self.vessel(sailing.vessel, &mut report);
            let row = Sailing {
                route: route_id,
                vessel: vessel_id,
                status: sailing.status,
                departs_at: sailing.departs_at,
                delay_min: sailing.delay_min,
                cars_booked: sailing.cars_booked,
                note: sailing.note,
            };
            self.sailing(sailing.id, row, &mut report);
        }
        Ok(report)
    }

    fn port(&mut self, port: Port, report: &mut Vec<Changed>) {
        match self.ports.get(&port.code) {
            Some(old) if *old == port => {}
            old => {
                let bits = old.map_or(NEW, |old| {
                    u8::from(old.name != port.name) | u8::from(old.island != port.island) << 1
                });
                report.push(Changed::Port(port.code.clone(), bits));
                self.ports.insert(port.code.clone(), port);
            }
        }
    }

    fn vessel(&mut self, vessel: Vessel, report: &mut Vec<Changed>) {
        match self.vessels.get(&vessel.id) {
            Some(old) if *old == vessel => {}
            old => {
                let bits = old.map_or(NEW, |old| {
                    u8::from(old.name != vessel.name)
                        | u8::from(old.cars_max != vessel.cars_max) << 1
                });
                report.push(Changed::Vessel(vessel.id.clone(), bits));
                self.vessels.insert(vessel.id.clone(), vessel);
            }
        }
    }

    fn sailing(&mut self, id: i64, mut row: Sailing, report: &mut Vec<Changed>) {
        match self.sailings.entry(id) {
            Entry::Vacant(place) => {
                place.insert(row);
                report.push(Changed::Sailing(id, NEW));
            }
            Entry::Occupied(mut place) => {
                let old = place.get();
                // A note that is not in the response stays as it was.
                if row.note.is_none() {
                    row.note = old.note.clone();
                }
                let bits = u8::from(old.route != row.route)
                    | u8::from(old.vessel != row.vessel) << 1
                    | u8::from(old.status != row.status) << 2
                    | u8::from(old.departs_at != row.departs_at) << 3
                    | u8::from(old.delay_min != row.delay_min) << 4
                    | u8::from(old.cars_booked != row.cars_booked) << 5
                    | u8::from(old.note != row.note) << 6;
                if bits != 0 {
                    place.insert(row);
                    report.push(Changed::Sailing(id, bits));
                }
            }
        }
    }
}
