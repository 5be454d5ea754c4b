//! The ferries at any size: responses of the same shape as the demo's.

use std::fmt::Write;

/// The demo's schema.
pub(crate) const SCHEMA: &str = include_str!("../../../demo/backwater.toml");

pub(crate) const STATUSES: [&str; 5] = ["on time", "boarding", "delayed", "departed", "cancelled"];
const WORDS: [&str; 12] = [
    "Marram", "Tide", "Heron", "Lantern", "Samphire", "Eelgrass", "Skerry", "Whin", "Norrin",
    "Oster", "Saltmere", "Brack",
];

/// What stays the same from response to response: ports, routes, vessels.
pub(crate) struct World {
    routes: Vec<String>,
    vessels: Vec<String>,
    rng: fastrand::Rng,
}

/// One sailing's own fields.
#[derive(Clone)]
pub(crate) struct Sailing {
    id: i64,
    route: usize,
    vessel: usize,
    status: usize,
    minute: u32,
    delay: Option<u32>,
    cars: u32,
    note: Option<u32>,
}

impl World {
    pub(crate) fn new(size: usize, seed: u64) -> Self {
        let mut rng = fastrand::Rng::with_seed(seed);
        let name = |rng: &mut fastrand::Rng| {
            format!("{} {}", WORDS[rng.usize(..WORDS.len())], WORDS[rng.usize(..WORDS.len())])
        };
        let ports: Vec<String> = (0..(size / 5000).clamp(6, 200))
            .map(|n| {
                format!(
                    r#"{{"code":"P{n:03}","name":"{}","island":"{}"}}"#,
                    name(&mut rng),
                    name(&mut rng)
                )
            })
            .collect();
        let routes = (0..(size / 1000).clamp(8, 1000)).map(|n| {
            let (from, to) = (rng.usize(..ports.len()), rng.usize(..ports.len()));
            let minutes = rng.u32(20..120);
            format!(
                r#"{{"id":"R{n:04}","from":{},"to":{},"minutes":{minutes}}}"#,
                ports[from], ports[to]
            )
        });
        let routes = routes.collect();
        let vessels = (0..(size / 1000).clamp(5, 1000)).map(|n| {
            let cars = rng.u32(10..90);
            format!(r#"{{"id":"vessel-{n}","name":"{}","cars_max":{cars}}}"#, name(&mut rng))
        });
        let vessels = vessels.collect();
        Self { routes, vessels, rng }
    }

    pub(crate) fn sailing(&mut self, id: i64) -> Sailing {
        let rng = &mut self.rng;
        Sailing {
            id,
            route: rng.usize(..self.routes.len()),
            vessel: rng.usize(..self.vessels.len()),
            status: rng.usize(..STATUSES.len()),
            minute: rng.u32(..365 * 1440),
            delay: (rng.u32(..20) > 0).then(|| rng.u32(..4) * rng.u32(..30)),
            cars: rng.u32(..90),
            note: (rng.u32(..10) == 0).then(|| rng.u32(..)),
        }
    }

    pub(crate) fn sailings(&mut self, size: usize) -> Vec<Sailing> {
        (1..=size as i64).map(|id| self.sailing(id)).collect()
    }

    pub(crate) fn shuffle(&mut self, sailings: &mut [Sailing]) {
        self.rng.shuffle(sailings);
    }

    /// A departures page; with `space`, the same with other white space.
    pub(crate) fn page(&self, sailings: &[Sailing], space: bool) -> String {
        let mut out = String::with_capacity(sailings.len() * 400 + 100);
        out += r#"{"day":"2031-05-04","sailings":["#;
        for (number, sailing) in sailings.iter().enumerate() {
            out += if number == 0 { "" } else { "," };
            self.write(&mut out, sailing, space);
        }
        out += "]}";
        out
    }

    fn write(&self, out: &mut String, sailing: &Sailing, space: bool) {
        let s = if space { " " } else { "" };
        let (day, minute) = (sailing.minute / 1440, sailing.minute % 1440);
        let (month, day, hour, minute) =
            (day / 28 % 12 + 1, day % 28 + 1, minute / 60, minute % 60);
        let (route, vessel) = (&self.routes[sailing.route], &self.vessels[sailing.vessel]);
        let delay = sailing.delay.map_or("null".to_owned(), |delay| delay.to_string());
        let written = write!(
            out,
            "{{{s}\"id\":{s}{},\"route\":{s}{route},\"vessel\":{s}{vessel},{s}\"status\":{s}\"{}\",{s}\
             \"departs_at\":{s}\"2031-{month:02}-{day:02}T{hour:02}:{minute:02}:00+02:00\",{s}\"delay_min\":{s}{delay},\
             {s}\"cars_booked\":{s}{}",
            sailing.id, STATUSES[sailing.status], sailing.cars,
        );
        debug_assert!(written.is_ok());
        if let Some(note) = sailing.note {
            *out += &format!(",{s}\"note\":{s}\"call the harbour office about matter {note}\"");
        }
        *out += "}";
    }
}
