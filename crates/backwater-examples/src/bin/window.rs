//! A window with `egui`: search as you type, edit in place, rows that light up when they enter or
//! change. A thread plays the server, whose live changes show by themselves.
//!
//! `cargo run --manifest-path crates/backwater-examples/Cargo.toml --bin window`

use std::collections::HashMap;
use std::time::{Duration, Instant};

use backwater::delta::Step;
use backwater::{
    Cache, DeltaKind, FromRow, Link, LiveRows, Report, Schema, Table, Timestamp, Watch,
};
use eframe::egui::{
    CentralPanel, Color32, ComboBox, Context, DragValue, Grid, Panel, RichText, ScrollArea,
    TextEdit, Ui,
};

#[derive(Table)]
struct Port {
    #[table(id)]
    code: String,
    name: Option<String>,
}

#[derive(Table)]
struct Route {
    #[table(id)]
    id: String,
    to: Link<Port>,
}

#[derive(Table)]
struct Vessel {
    #[table(id)]
    id: String,
    name: Option<String>,
}

#[derive(Table)]
struct Sailing {
    #[table(id)]
    id: i64,
    route: Link<Route>,
    vessel: Link<Vessel>,
    departs_at: Timestamp,
    status: String,
    delay_min: Option<i64>,
}

/// What the window shows is a row, too: the query takes its parameter from it.
#[derive(Default, Table)]
#[table(one_row)]
struct Window {
    search: String,
}

/// A line of the window.
#[derive(FromRow)]
struct Departure {
    id: i64,
    port: Option<String>,
    vessel: Option<String>,
    departs_at: Timestamp,
    status: String,
    delay_min: Option<i64>,
}

const DEPARTURES: &str = "
    SELECT s.id, p.name AS port, v.name AS vessel, s.departs_at, s.status, s.delay_min
    FROM sailing AS s
    JOIN route AS r ON r.id = s.route
    JOIN port AS p ON p.code = r.\"to\"
    LEFT JOIN vessel AS v ON v.id = s.vessel
    WHERE contains(concat_ws(' ', p.name, v.name, s.status), :search)
    ORDER BY s.departs_at, s.id";

const STATUSES: [&str; 4] = ["on time", "boarding", "delayed", "cancelled"];

/// For how long a row is lit.
const LIT: Duration = Duration::from_millis(2500);

struct App {
    cache: Cache,
    rows: LiveRows<Departure>,
    /// Since when rows are lit, and why.
    lit: HashMap<i64, (DeltaKind, Instant)>,
    search: String,
    /// What the last commit did, and why the list moved or did not.
    last: String,
    _follows: Watch,
}

impl App {
    fn new(context: Context) -> Result<Self, backwater::Error> {
        let rules = r#"response.departures = { records = "/sailings", table = "sailing" }"#;
        let schema = Schema::builder().text("rules.toml", rules);
        let schema = schema.table::<Port>().table::<Route>().table::<Vessel>().table::<Sailing>();
        let cache = Cache::new(schema.table::<Window>().build()?);
        cache.commit("departures loaded", |tx| {
            tx.ingest("departures", include_str!("../../../../demo/responses/departures.json"))
        })?;

        let departures = cache.query(DEPARTURES, [("search", "")])?.typed()?;
        let follows = cache.params_from(&departures, |window: &Window| {
            [("search", window.search.as_str())].into()
        })?;
        // All that the library needs of the toolkit.
        let rows = cache.live(&departures, move || context.request_repaint())?;
        play_server(cache.clone());
        let (lit, search, last) = (HashMap::new(), String::new(), String::new());
        Ok(Self { cache, rows, lit, search, last, _follows: follows })
    }

    /// Takes in what happened since the last frame.
    fn follow(&mut self) -> Result<(), backwater::Error> {
        let (lit, now) = (&mut self.lit, Instant::now());
        self.rows.update_with(|step| {
            if let Step::Insert { row, .. } | Step::Set { row, .. } = step
                && let Some(id) = row.row().values()[0].as_int()
            {
                lit.insert(id, (row.kind(), now));
            }
        })?;
        lit.retain(|_, (_, since)| since.elapsed() < LIT);
        if let Some(report) = self.cache.commits().last() {
            self.last = outcome_text(report, &self.rows);
        }
        Ok(())
    }

    fn search(&mut self, ui: &mut Ui) -> Result<(), backwater::Error> {
        let edit = TextEdit::singleline(&mut self.search).hint_text("a port, a vessel, a status");
        if ui.add(edit.desired_width(280.0)).changed() {
            let search = self.search.clone();
            self.cache.commit("letter typed", |tx| {
                tx.table::<Window>()?.set(|window| window.search = search)
            })?;
        }
        Ok(())
    }

    fn list(&self, ui: &mut Ui) -> Result<(), backwater::Error> {
        let mut done = Ok(());
        Grid::new("departures").num_columns(6).spacing([40.0, 7.0]).striped(true).show(ui, |ui| {
            for title in ["departs (UTC)", "sailing", "to", "vessel", "status", "delay"] {
                ui.label(RichText::new(title).strong());
            }
            ui.end_row();
            for row in &self.rows {
                let light = self.light(row.id);
                let shown = |text: &str| {
                    let text = RichText::new(text).background_color(light);
                    if light == Color32::TRANSPARENT { text } else { text.strong() }
                };
                ui.label(shown(&row.departs_at.to_string()[11..16]).monospace());
                ui.label(shown(&row.id.to_string()));
                ui.label(shown(row.port.as_deref().unwrap_or("…")));
                ui.label(shown(row.vessel.as_deref().unwrap_or("…")));
                let edited = self.edit(ui, row);
                if done.is_ok() {
                    done = edited;
                }
                ui.end_row();
            }
        });
        done
    }

    /// The cells that can be edited in place.
    fn edit(&self, ui: &mut Ui, row: &Departure) -> Result<(), backwater::Error> {
        let (mut status, mut delay) = (row.status.clone(), row.delay_min.unwrap_or(0));
        ComboBox::from_id_salt(row.id).width(110.0).selected_text(&row.status).show_ui(ui, |ui| {
            for known in STATUSES {
                ui.selectable_value(&mut status, known.to_owned(), known);
            }
        });
        let delayed = ui.add(DragValue::new(&mut delay).range(0..=180).suffix(" min")).changed();
        if delayed || status != row.status {
            self.cache.commit(format!("sailing {} edited", row.id), |tx| {
                tx.table::<Sailing>()?.update(row.id, |sailing| {
                    sailing.status = status;
                    sailing.delay_min = Some(delay);
                })
            })?;
        }
        Ok(())
    }

    /// The colour behind a row: it fades while it is lit.
    fn light(&self, id: i64) -> Color32 {
        let Some((kind, since)) = self.lit.get(&id) else { return Color32::TRANSPARENT };
        let left = 1.0 - since.elapsed().as_secs_f32() / LIT.as_secs_f32();
        let colour = match kind {
            DeltaKind::Enter => Color32::from_rgb(40, 120, 70),
            _ => Color32::from_rgb(150, 105, 20),
        };
        colour.gamma_multiply(left.clamp(0.0, 1.0))
    }
}

impl eframe::App for App {
    fn ui(&mut self, ui: &mut Ui, _: &mut eframe::Frame) {
        let mut done = self.follow();
        if !self.lit.is_empty() {
            ui.ctx().request_repaint_after(Duration::from_millis(50));
        }
        Panel::top("search").show(ui, |ui| {
            ui.add_space(8.0);
            ui.horizontal(|ui| {
                ui.heading("The Saltmere ferries");
                ui.add_space(16.0);
                done = std::mem::replace(&mut done, Ok(())).and(self.search(ui));
                ui.label(format!("{} sailings", self.rows.len()));
            });
            ui.add_space(6.0);
        });
        Panel::bottom("last").show(ui, |ui| {
            ui.add_space(4.0);
            ui.label(RichText::new(&self.last).monospace());
            ui.add_space(4.0);
        });
        CentralPanel::default().show(ui, |ui| {
            ScrollArea::vertical().auto_shrink(false).show(ui, |ui| {
                done = std::mem::replace(&mut done, Ok(())).and(self.list(ui));
            });
        });
        if let Err(error) = done {
            self.last = error.to_string();
        }
    }
}

/// A commit in a line.
fn outcome_text(report: &Report, rows: &LiveRows<Departure>) -> String {
    let why = report.why(rows.query());
    format!("commit {}, {}: {why}", report.number(), report.label())
}

/// Live changes, as a server would push them: each second another sailing is a little later.
fn play_server(cache: Cache) {
    std::thread::spawn(move || {
        let ids =
            cache.query("SELECT id FROM sailing ORDER BY departs_at", ())?.typed::<(i64,)>()?;
        for round in 0_usize.. {
            std::thread::sleep(Duration::from_millis(1000));
            let ids = ids.rows()?;
            let (id,) = ids[round * 5 % 17];
            cache.commit("live change", |tx| {
                tx.table::<Sailing>()?.update(id, |sailing| {
                    sailing.delay_min = Some(sailing.delay_min.unwrap_or(0) + 5);
                    sailing.status = "delayed".to_owned();
                })
            })?;
        }
        Ok::<_, backwater::Error>(())
    });
}

fn main() -> eframe::Result {
    let mut options = eframe::NativeOptions::default();
    options.viewport = options.viewport.with_inner_size([860.0, 620.0]);
    eframe::run_native(
        "Backwater: departures",
        options,
        Box::new(|creation| Ok(Box::new(App::new(creation.egui_ctx.clone())?))),
    )
}
