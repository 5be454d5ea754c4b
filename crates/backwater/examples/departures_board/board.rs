//! What is shown, and what keys do to it. Nothing here draws.

use backwater::{
    Cache, DeltaKind, Derived, Found, Id, Link, Report, Timestamp, TypedQuery, Watch,
    delta::DeltaStream, error::Result,
};
use ratatui::crossterm::event::KeyCode;

use crate::tables::{Board, Departure, Port, Route, Sailing, Status, Vessel};

/// For how many frames a row shows that something happened to it.
const FLASH: u64 = 6;

/// A line of the board, and what happened to it lately.
pub(crate) struct Shown {
    pub(crate) departure: Departure,
    pub(crate) flash: Option<Flash>,
}

pub(crate) struct Flash {
    pub(crate) kind: DeltaKind,
    /// The columns that changed.
    pub(crate) columns: Vec<String>,
    until: u64,
}

/// What is shown of the selected sailing.
#[derive(Debug, Default, PartialEq)]
pub(crate) struct Detail {
    pub(crate) title: String,
    pub(crate) departs_at: Timestamp,
    pub(crate) arrives_at: Timestamp,
    pub(crate) status: Option<Status>,
    pub(crate) vessel: String,
    pub(crate) booked: (i64, i64),
    pub(crate) note: Option<String>,
}

pub(crate) struct View {
    pub(crate) cache: Cache,
    pub(crate) rows: Vec<Shown>,
    /// Rows that have left, for as long as that is shown: with the place where they stood.
    pub(crate) left: Vec<(usize, Shown)>,
    pub(crate) statuses: TypedQuery<(Status, i64, i64)>,
    pub(crate) bookings: TypedQuery<(String, i64, bool)>,
    pub(crate) detail: Derived<Option<Detail>>,
    pub(crate) is_typing: bool,
    departures: TypedQuery<Departure>,
    deltas: DeltaStream,
    frame: u64,
    _follow: Vec<Watch>,
    _kept: [Watch; 2],
}

impl View {
    pub(crate) fn new(cache: Cache) -> Result<Self> {
        let board = || cache.snapshot().table::<Board>().map(|board| board.only());
        let shown = board()?;
        let departures = cache
            .query("departures", (("port", shown.port), ("now", shown.now), ("search", "")))?
            .typed::<Departure>()?;
        let statuses = cache.query("statuses", [("port", board()?.port)])?.typed()?;
        let bookings = cache.query("bookings", [("sailing", board()?.selected)])?.typed()?;
        let follow = vec![
            cache.params_from(&departures, |board: &Board| {
                let Board { port, now, search, .. } = board;
                (("port", port.clone()), ("now", *now), ("search", search.as_str())).into()
            })?,
            cache.params_from(&statuses, |board: &Board| [("port", board.port.clone())].into())?,
            cache.params_from(&bookings, |board: &Board| [("sailing", board.selected)].into())?,
        ];
        let (start, deltas) = cache.deltas(&departures)?;
        let rows = departures.rows_of(&start)?.into_iter();
        let rows = rows.map(|departure| Shown { departure, flash: None }).collect();
        let detail = cache.derived("selected sailing", |read| {
            let board = read.table::<Board>()?.only();
            let Some(selected) = board.selected else { return Ok(None) };
            // A sailing without a note is loaded in part.
            let Some(sailing) = read.table::<Sailing>()?.get(selected).known() else {
                return Ok(None);
            };
            let vessel = read.table::<Vessel>()?.get(&sailing.vessel).here();
            let Found::Here(route) = read.table::<Route>()?.get(&sailing.route) else {
                return Ok(None);
            };
            let name = |port: &Link<Port>| -> Result<String> {
                let port = read.table::<Port>()?.get(port).here();
                Ok(port.map_or_else(|| "?".to_owned(), |port| port.name))
            };
            let late = sailing.delay_min.unwrap_or(0) * 60_000_000;
            let departs = sailing.departs_at.as_micros() + late;
            Ok(Some(Detail {
                title: format!("{} {} to {}", sailing.id, name(&route.from)?, name(&route.to)?),
                departs_at: Timestamp::from_micros(departs)?,
                arrives_at: Timestamp::from_micros(departs + route.minutes * 60_000_000)?,
                status: Some(sailing.status),
                booked: (sailing.cars_booked, vessel.as_ref().map_or(0, |vessel| vessel.cars_max)),
                vessel: vessel.map_or_else(|| "not known".to_owned(), |vessel| vessel.name),
                note: sailing.note,
            }))
        });
        let kept = [statuses.keep_current(), bookings.keep_current()];
        Ok(Self {
            cache,
            rows,
            left: Vec::new(),
            statuses,
            bookings,
            detail,
            is_typing: false,
            departures,
            deltas,
            frame: 0,
            _follow: follow,
            _kept: kept,
        })
    }

    /// Begins a frame: takes in what happened to the rows since the last one.
    pub(crate) fn next_frame(&mut self) -> Result<()> {
        self.frame += 1;
        let (frame, until) = (self.frame, self.frame + FLASH);
        self.left.retain(|(_, gone)| gone.flash.as_ref().is_some_and(|flash| flash.until > frame));
        for row in &mut self.rows {
            row.flash.take_if(|flash| flash.until <= frame);
        }
        while let Some(delta) = self.deltas.try_next()? {
            let read = |row: backwater::result::ResultRow<'_>| self.departures.row(row.values());
            for row in delta.rows().filter(|row| row.kind() == DeltaKind::Leave) {
                if let (Some(at), Some(before)) = (row.from(), row.before()) {
                    let flash = Some(Flash { kind: row.kind(), columns: Vec::new(), until });
                    self.left.push((at, Shown { departure: read(before)?, flash }));
                }
            }
            delta.apply_with(&mut self.rows, |row| {
                let columns = row.columns().into_iter().map(str::to_owned).collect();
                let flash = Some(Flash { kind: row.kind(), columns, until });
                Ok(Shown { departure: read(row.row())?, flash })
            })?;
        }
        Ok(())
    }

    pub(crate) fn board(&self) -> Result<Board> {
        Ok(self.cache.snapshot().table::<Board>()?.only())
    }

    /// The reports of the last commits, the newest first; not those that only gave a query other
    /// values.
    pub(crate) fn commits(&self) -> impl Iterator<Item = Report> {
        let made = self.cache.commits().into_iter().rev();
        made.filter(|report| report.rebound().is_none())
    }

    /// Whether the rows, which only ever followed deltas, are those that the query gives.
    pub(crate) fn is_true(&self) -> Result<bool> {
        Ok(self.rows.iter().map(|shown| &shown.departure).eq(&self.departures.rows()?))
    }

    /// Does what a key says. `false` ends the program.
    pub(crate) fn key(&mut self, key: KeyCode) -> Result<bool> {
        match key {
            KeyCode::Enter => self.is_typing = false,
            KeyCode::Esc => {
                self.is_typing = false;
                self.search("search cleared", |_| String::new())?;
            }
            KeyCode::Backspace => self.search("letter taken back", |mut text| {
                text.pop();
                text
            })?,
            KeyCode::Char(letter) if self.is_typing => {
                self.search(&format!("typed {letter}"), |text| text + &letter.to_string())?;
            }
            KeyCode::Char('/') => self.is_typing = true,
            KeyCode::Char('q') => return Ok(false),
            KeyCode::Down | KeyCode::Char('j') => self.select(1)?,
            KeyCode::Up | KeyCode::Char('k') => self.select(-1)?,
            KeyCode::Tab => self.next_port()?,
            _ => {}
        }
        Ok(true)
    }

    fn search(&self, label: &str, change: impl FnOnce(String) -> String) -> Result<()> {
        let made = self.cache.commit(label, |tx| {
            tx.table::<Board>()?
                .set(|board| board.search = change(std::mem::take(&mut board.search)))
        });
        made.map(drop)
    }

    /// Selects the next row, or the one before.
    fn select(&self, step: isize) -> Result<()> {
        let selected = self.board()?.selected;
        let is_selected = |row: &Shown| selected.as_ref() == Some(&row.departure.id.into());
        let at = self.rows.iter().position(is_selected);
        let next =
            at.map_or(0, |at| at.saturating_add_signed(step)).min(self.rows.len().max(1) - 1);
        let Some(row) = self.rows.get(next) else { return Ok(()) };
        let id: Id<Sailing> = row.departure.id;
        let made = self.cache.commit(format!("{id} selected"), |tx| {
            tx.table::<Board>()?.set(|board| board.selected = Some(id.into()))
        });
        made.map(drop)
    }

    fn next_port(&self) -> Result<()> {
        let snapshot = self.cache.snapshot();
        let codes: Vec<String> =
            snapshot.table::<Port>()?.here().map(|port: Port| port.code).collect();
        let shown = self.board()?.port;
        let at = codes.iter().position(|code| shown == Some(Link::to(code.as_str())));
        let Some(next) = codes.get((at.map_or(0, |at| at + 1)) % codes.len().max(1)) else {
            return Ok(());
        };
        let made = self.cache.commit(format!("the board of {next}"), |tx| {
            tx.table::<Board>()?.set(|board| board.port = Some(Link::to(next.as_str())))
        });
        made.map(drop)
    }
}
