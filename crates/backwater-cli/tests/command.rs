//! The command as its users meet it: what it prints, where, and with which exit code.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Output;

use assert_cmd::Command;
use tempfile::TempDir;

/// A folder with the demo world's files in it.
struct World(TempDir);

impl World {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
        fs::copy(demo.join("backwater.toml"), folder.path().join("backwater.toml")).unwrap();
        for kind in ["responses", "recordings"] {
            for file in fs::read_dir(demo.join(kind)).unwrap().map(Result::unwrap) {
                fs::copy(file.path(), folder.path().join(file.file_name())).unwrap();
            }
        }
        Self(folder)
    }

    /// With the departures ingested into `cache.db`.
    fn loaded() -> Self {
        let world = Self::new();
        let ingest =
            "ingest --schema backwater.toml --cache cache.db --as departures departures.json";
        world.run(ingest).says("28,520 bytes, 300 objects, 79 rows; 221 repeats folded");
        world
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn write(&self, name: &str, content: impl AsRef<[u8]>) {
        fs::write(self.path(name), content).unwrap();
    }

    fn call(&self, arguments: &[&str], stdin: &str) -> Ran {
        let mut command = Command::cargo_bin("backwater").unwrap();
        command.current_dir(self.0.path()).args(arguments).write_stdin(stdin).env_remove("CARGO");
        Ran { output: command.output().unwrap(), call: arguments.join(" ") }
    }

    fn run(&self, arguments: &str) -> Ran {
        self.call(&arguments.split_whitespace().collect::<Vec<_>>(), "")
    }

    /// `query --cache cache.db`, with the statement as one argument.
    fn query(&self, sql: &str, more: &str) -> Ran {
        let mut arguments = vec!["query", "--cache", "cache.db", sql];
        arguments.extend(more.split_whitespace());
        self.call(&arguments, "")
    }
}

struct Ran {
    output: Output,
    call: String,
}

impl Ran {
    fn out(&self) -> String {
        String::from_utf8(self.output.stdout.clone()).unwrap()
    }

    fn err(&self) -> String {
        String::from_utf8(self.output.stderr.clone()).unwrap()
    }

    /// It did its work, and standard output holds this.
    fn says(self, wanted: &str) -> Self {
        assert_eq!(self.output.status.code(), Some(0), "{}: {}", self.call, self.err());
        assert!(
            self.out().contains(wanted),
            "{} should print {wanted:?}:\n{}",
            self.call,
            self.out()
        );
        assert!(!self.out().contains('\u{1b}'), "colour belongs on a terminal");
        self
    }

    /// It went well, and said this to standard error.
    fn notes(self, wanted: &str) -> Self {
        assert_eq!(self.output.status.code(), Some(0), "{}: {}", self.call, self.err());
        assert!(
            self.err().contains(wanted),
            "{} should say {wanted:?}:\n{}",
            self.call,
            self.err()
        );
        self
    }

    /// It failed with this code and message, and printed nothing to standard output.
    fn fails(self, code: i32, wanted: &str) {
        assert_eq!(self.output.status.code(), Some(code), "{}: {}", self.call, self.err());
        assert!(
            self.err().contains(wanted),
            "{} should say {wanted:?}:\n{}",
            self.call,
            self.err()
        );
        assert!(!self.err().contains("panicked"), "{}", self.err());
        assert_eq!(self.out(), "", "{}", self.call);
    }
}

#[test]
fn the_demo_tells_its_story_and_leaves_a_file_to_look_into() {
    let world = World::new();
    for _ in 0..2 {
        world
            .run("demo")
            .says("300 objects, 79 rows; 221 repeats folded")
            .says("commit 2, \"departures loaded again\": 0 rows changed, 0 queries reached")
            .says("sailing 304: delay_min 0 -> 25")
            .says("maintained: 1 row changed, because sailing 304 changed delay_min")
            .says("untouched: commit 3 changed sailing.delay_min; the query reads sailing.status and sailing.cars_booked")
            .says("changes at 2  tidewife: avg_delay 3.75 -> 10.0, worst 10 -> 25")
            .says("    leaves at 4   302  NOR-TAR")
            .says("    enters at 6   305  EEL-WHI")
            .says("saltmere.db holds commit 4")
            .says("next_departures  6 rows, the same as before");
    }
    world.run("query --cache saltmere.db by_status").says("cancelled         2    24");
    world.write("mine.db", "something else, of more than sixteen bytes");
    world.run("demo --cache mine.db").fails(1, "mine.db: this file is there, and no demo made it");
    assert_eq!(fs::read(world.path("mine.db")).unwrap().len(), 42);
}

#[test]
fn responses_become_tables_that_any_sqlite_opens() {
    let world = World::loaded();
    world
        .run("ingest --cache cache.db --as fleet fleet.json")
        .says("vessel        5     5    0        5      0");
    let bookings = fs::read_to_string(world.path("bookings-311.json")).unwrap();
    let url = "https://ferries.example/sailings/311/bookings";
    let arguments = ["ingest", "--cache", "cache.db", "--url", url, "-"];
    world
        .call(&arguments, &bookings)
        .says("standard input: 1,335 bytes, 16 objects, 9 rows; 7 repeats folded");
    world
        .run("ingest --cache cache.db --as fleet fleet.json fleet.json")
        .says("Nothing of this was news.");
    world
        .run("tables --cache cache.db")
        .says("sailing    60      56        0  id int, route -> route");
    let sqlite = rusqlite::Connection::open(world.path("cache.db")).unwrap();
    let row =
        "SELECT departs_at || ' ' || route || ' ' || (note IS NULL) FROM sailing WHERE id = 311";
    let row: String = sqlite.query_row(row, [], |row| row.get(0)).unwrap();
    assert_eq!(row, "2031-05-04T08:22:00.000000Z NOR-SAL 1");
    let search = "SELECT count(*) FROM pragma_table_info('board') WHERE name = 'search'";
    assert_eq!(
        sqlite.query_row(search, [], |row| row.get::<_, i64>(0)).unwrap(),
        0,
        "it does not persist"
    );
}

#[test]
fn rows_come_as_table_json_ndjson_and_csv() {
    let world = World::loaded();
    world
        .run("ingest --cache cache.db --as bookings --var sailing=311 bookings-311.json")
        .says("booking");
    let sql = "SELECT id, party, paid, sailing FROM booking WHERE id < 9020 ORDER BY id";
    world
        .query(sql, "")
        .says("  id  party          paid  sailing\n9000  Brandling      true      311\n");
    let json = world.query(sql, "--format json").out();
    let rows: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!(rows[1]["party"], "Quayle-Ostrow");
    assert!(rows[1]["paid"].is_boolean());
    assert_eq!(world.query(sql, "--format ndjson").out().lines().count(), 3);
    let csv = world.query(sql, "--format csv").says("id,party,paid,sailing\n").out();
    assert_eq!(csv.lines().count(), 4);
    world
        .run("tables --cache cache.db --format json")
        .says("{\"table\":\"port\",\"rows\":6,\"absent\":0");
    let none = world.query("SELECT id FROM booking WHERE id = 0", "");
    assert_eq!((none.out().as_str(), none.err().as_str()), ("id\n", "no rows\n"));
    assert_eq!(world.query("SELECT id FROM booking WHERE id = 0", "--format json").out(), "[]\n");
}

#[test]
fn parameters_are_read_as_sql_spells_them() {
    let world = World::loaded();
    let count = |condition: &str, param: &str| {
        let sql = format!("SELECT count(*) AS n FROM sailing WHERE {condition}");
        world.query(&sql, &format!("--format csv --param {param}")).out()
    };
    assert_eq!(count("id = :id", "id=311"), "n\n1\n");
    assert_eq!(count("id = :id", "id='311'"), "n\n1\n");
    assert_eq!(count("route = :r", "r=NOR-SAL"), "n\n8\n");
    assert_eq!(count("departs_at < :t", "t=2031-05-04T07:00:00+02:00"), "n\n5\n");
    assert_eq!(count("note IS :n", "n=null"), "n\n56\n");
    world.run("query --cache cache.db --param route=NOR-SAL delays_on_route").says("tidewife");
}

#[test]
fn every_kind_of_bad_call_or_input_has_its_message_and_exit_code() {
    let world = World::loaded();
    let before = fs::read(world.path("cache.db")).unwrap();
    world.write("cut.json", &fs::read(world.path("departures.json")).unwrap()[..9000]);
    world.write("wrong.json", r#"{"sailings": [{"id": 1, "departs_at": 5}]}"#);
    world.write("latin.json", b"{\"sailings\": \"\xe9\"}");
    let ingest = |file: &str| world.run(&format!("ingest --cache cache.db --as departures {file}"));
    ingest("none.json").fails(1, "none.json: it cannot be read: No such file or directory");
    ingest("backwater.toml")
        .fails(1, "backwater.toml: the response: it is not JSON at line 1 column 1");
    ingest("cut.json").fails(1, "it ends in the middle of a value at line");
    ingest("wrong.json").fails(
        1,
        "wrong.json: /sailings/0/departs_at: found integer `5`, expected a time of RFC 3339",
    );
    ingest("latin.json").fails(1, "latin.json: byte 14 is not UTF-8");
    ingest("fleet.json").fails(1, "found no member \"sailings\"");
    world.write("page.json", "{}");
    world.run("ingest --cache cache.db page.json").fails(
        2,
        "none of which page.json is called after; choose one with --as, or give the --url: departures, sailing,",
    );
    world.run("ingest --cache cache.db --as departure x").fails(2, "did you mean \"departures\"?");
    world
        .run("ingest --cache new.db --as fleet fleet.json")
        .fails(2, "name a schema with --schema");
    world
        .run("ingest --schema none.toml --cache x.db fleet.json")
        .fails(1, "none.toml: it cannot be read");
    world
        .run("ingest --schema backwater.toml --cache fleet.json --as fleet fleet.json")
        .fails(1, "fleet.json: this is not a Backwater cache");
    world
        .run("ingest --schema backwater.toml --cache no/where.db --as fleet fleet.json")
        .fails(1, "is its folder there?");

    world
        .query("SELECT id FROM boat", "")
        .fails(2, "line 1, column 16 of the statement: there is no table \"boat\"");
    world.query("SELECT dely_min FROM sailing", "").fails(2, "did you mean \"delay_min\"?");
    world
        .query("SELEC id FROM sailing", "")
        .fails(2, "line 1, column 1 of the statement: found SELEC");
    world.query("SELECT id FROM", "").fails(2, "the statement ends here, expected");
    world
        .query("SELECT s.id FROM sailing s FULL JOIN route r ON EXISTS (SELECT 1 FROM port)", "")
        .fails(2, "a subquery in ON of a full join is not supported");
    world
        .query("SELECT status, count(*) FROM sailing", "")
        .fails(2, "column \"status\" is neither grouped by nor inside an aggregate");
    world
        .query("SELECT id FROM sailing WHERE status = \"late\"", "")
        .fails(2, "a text is written in single quotes: 'late'");
    world.query("SELECT random() FROM sailing", "").fails(2, "function random() is not supported");
    world.query("DELETE FROM sailing", "").fails(2, "expected a SELECT statement");
    world.query("SELECT id FROM sailing WHERE id = :id", "").fails(2, "parameter :id has no value");
    world
        .query("SELECT id FROM sailing", "--param port=SAL")
        .fails(2, "the statement has no parameter :port");
    world.query("SELECT id FROM sailing", "--param port").fails(2, "expected NAME=VALUE");
    world
        .query("SELECT id FROM sailing", "--format yaml")
        .fails(2, "possible values: table, json, ndjson, csv");
    world.run("query --cache none.db x").fails(1, "none.db: there is no cache here");
    world
        .run("tables --cache departures.json")
        .fails(1, "departures.json: this is not a Backwater cache");
    world.run("tabels").fails(2, "unrecognized subcommand 'tabels'");
    assert_eq!(fs::read(world.path("cache.db")).unwrap(), before, "nothing of this wrote anything");
    assert!(!world.path("new.db").exists() && !world.path("none.db").exists());

    let half = &before[..before.len() / 2];
    world.write("cache.db", half);
    world.query("SELECT id FROM sailing", "").fails(1, "cache.db: it is cut short");
    assert_eq!(fs::read(world.path("cache.db")).unwrap(), half);
}

#[test]
fn a_schema_is_checked_to_its_end() {
    let world = World::new();
    world
        .run("check backwater.toml")
        .says("backwater.toml: 6 tables, 9 response rules, 3 send rules, 1 feed and 7 named queries, nothing wrong\n");
    world.write(
        "bad.toml",
        r#"[table.port]
id = "cod"
[table.port.fields]
code = "txt"
name = { type = "text", persit = false }

[table.route]
fields = { id = "int", to = { to = "prot" } }

[table.board]
one_row = "yes"
fields = { port = { to = "board" } }

[response.ports]
records = "ports"
tabel = "port"

[query]
names = """
SELECT name
FROM port
WHERE nam = 'x'"""
"#,
    );
    let ran = world.run("check bad.toml");
    let reported = ran.err();
    for wanted in [
        "error: bad.toml:2:6: table \"port\" has no field \"cod\"; did you mean \"code\"?",
        "error: bad.toml:4:8: there is no type \"txt\"; expected \"int\", \"float\", \"bool\", \"text\", \"timestamp\" or \"json\"; did you mean \"text\"?",
        "error: bad.toml:5:25: a field has no \"persit\"; did you mean \"persist\"?",
        "error: bad.toml:8:36: there is no table \"prot\"; did you mean \"port\"?",
        "error: bad.toml:7:1: table \"route\" does not say which field holds the id; add `id = \"FIELD\"`",
        "error: bad.toml:11:11: found a string, expected true or false",
        "error: bad.toml:15:11: a JSON Pointer is empty (the whole response) or begins with \"/\"",
        "error: bad.toml:16:1: a response rule has no \"tabel\"",
    ] {
        assert!(reported.contains(wanted), "should say {wanted}:\n{reported}");
    }
    assert_eq!(reported.lines().count(), 9, "one slip is one problem:\n{reported}");
    ran.fails(1, "bad.toml");
    world.write("query.toml", "table.port = { id = 'code', fields = { code = 'text' } }\n[query]\nnames = '''\nSELECT code\nFROM port\nWHERE nam = 'x\\' '''\n");
    world
        .run("check query.toml")
        .fails(1, "query.toml:6:7: query \"names\": table \"port\" has no column \"nam\"");
    world.write("syntax.toml", "[table.port\n");
    world.run("check syntax.toml").fails(1, "syntax.toml:1:12: this is not TOML");
}

/// Many files of one run are one commit and one report; what they hold is read as file by file.
#[test]
fn many_files_are_reported_together() {
    let world = World::new();
    let (mut files, departures) = (Vec::new(), fs::read(world.path("departures.json")).unwrap());
    let departures: serde_json::Value = serde_json::from_slice(&departures).unwrap();
    for (number, page) in departures["sailings"].as_array().unwrap().chunks(2).enumerate() {
        files.push(format!("departures-{number}.json"));
        world.write(files.last().unwrap(), serde_json::json!({ "sailings": page }).to_string());
    }
    // The same again, one that is damaged, one that is no file, a recording, standard input.
    let more = ["departures-3.json", "fleet-2.json", "departures-x.json", "morning.har", "-"];
    files.extend(more.map(str::to_owned));
    world.write("fleet-2.json", r#"{ "vessels": [{ "id": "tern", "cars_max": "#);
    let booking = r#"{ "sailings": [{ "id": 301, "delay_min": 44 }] }"#;
    let run = |cache: &str, files: &[String], more: &[&str]| {
        let call = ["ingest", "--schema", "backwater.toml", "--cache", cache, "--as", "departures"];
        let files = files.iter().map(String::as_str);
        world.call(
            &call.into_iter().chain(more.iter().copied()).chain(files).collect::<Vec<_>>(),
            booking,
        )
    };
    let ran = run("together.db", &files, &[]);
    for wanted in [
        "35 files: 44 responses, of which 40 were read by a rule\n",
        "  4 responses had nothing new:\n    departures-3.json\n    GET /departures?port=SAL\n",
        "  4 of the 40 responses had nothing new.\n",
        "  departures         34 ",
    ] {
        assert!(ran.out().contains(wanted), "should print {wanted:?}:\n{}", ran.out());
    }
    for wanted in [
        "fleet-2.json: the response: it ends in the middle",
        "departures-x.json: it cannot be read",
        "2 of 35 files could not be taken in; the others were",
    ] {
        assert!(ran.err().contains(wanted), "should say {wanted:?}:\n{}", ran.err());
    }
    files.chunks(9).for_each(|files| drop(run("apart.db", files, &[])));
    let rows = |cache: &str| world.run(&format!("export --cache {cache}")).out();
    let [together, apart] = ["together.db", "apart.db"].map(rows);
    let without_times = |rows: &str| -> Vec<serde_json::Value> {
        rows.lines().skip(1).map(|line| serde_json::from_str(line).unwrap()).collect()
    };
    assert_eq!(without_times(&together), without_times(&apart));
    let records = run("records.db", &files, &["--format", "ndjson"]).out();
    assert_eq!(records.lines().count(), 40, "{records}");
    assert!(
        records
            .contains(r#"{"file":"morning.har","response":"GET /sailings/311","rule":"sailing","#)
    );
    assert!(run("all.db", &files, &["--all"]).out().contains("\n  departures-29.json"));
    // Of much that is wrong, the first are named.
    let missing: Vec<String> = (0..30).map(|number| format!("missing-{number}.json")).collect();
    let ran = run("none.db", &missing, &[]);
    assert!(
        ran.err().contains("error: and 10 more; --all names them\nerror: none of the 30 files"),
        "{}",
        ran.err()
    );
    assert!(run("none.db", &missing, &["--all"]).err().contains("missing-29.json: "));
    // A wrong call leaves nothing of the files before.
    world.write("zz.json", "{}");
    let call = ["ingest", "--schema", "backwater.toml", "--cache", "wrong.db"];
    let files = ["departures-1.json"; 25].into_iter().chain(["zz.json"]);
    world
        .call(&call.into_iter().chain(files).collect::<Vec<_>>(), "")
        .fails(2, "none of which zz.json is called after");
    let count = "SELECT count(*) AS sailings FROM sailing";
    world
        .call(&["query", "--cache", "wrong.db", "--format", "csv", count], "")
        .says("sailings\n0\n");
}

/// A recording is read response by response; what does not fit is reported, and the rest is kept.
#[test]
fn a_recording_becomes_rows_and_says_what_it_was_worth() {
    let world = World::new();
    let all = world
        .run("ingest --schema backwater.toml --cache cache.db morning.har")
        .says("morning.har: 11 responses, of which 8 were read by a rule")
        .says("  rule        responses  objects  new  changed  deleted  skipped\n")
        .says("  departures          2      200   39        0        0        0\n")
        .says("2 requests had nothing new:\n    GET /departures?port=SAL\n    GET /fleet\n")
        .says("2 others were not JSON, or not successful.")
        .says("No rule matches 1 request:\n    GET /tides/today\n")
        .says("15,953 bytes in 8 responses held 239 objects.")
        .says("Rows: 48 new, 5 changed, 2 deleted; 47 in the cache now.")
        .says("77 % of the objects said what was known already.")
        .says("2 of the 8 responses had nothing new.");
    assert!(!all.out().contains("tides/today  "), "{}", all.out());
    world
        .run("ingest --schema backwater.toml --cache each.db --all morning.har")
        .says("DELETE /bookings/9014       cancelled         0    0        0        1        0");
    // A report is as wide as 100 letters, also where a request is wider.
    let long = format!("/sailings/311?{}", "by=departure&".repeat(20));
    let morning = fs::read_to_string(world.path("morning.har")).unwrap();
    let wide = morning.replace("/sailings/311\"", &format!("{long}\""));
    world.write("wide.har", &wide);
    let wide = world.run("ingest --schema backwater.toml --cache wide.db --all wide.har");
    let wide = wide.says("…");
    let wide = wide.out();
    assert!(wide.lines().all(|line| line.chars().count() <= 100), "{wide}");
    // Machines get a record of each response, and nothing else; the quiet get nothing.
    let records = world
        .run("ingest --schema backwater.toml --cache ndjson.db --format ndjson morning.har")
        .out();
    let first = r#"{"file":"morning.har","response":"GET /departures?port=SAL","rule":"departures","objects":100,"new":39,"changed":0,"deleted":0,"skipped":0}"#;
    assert_eq!((records.lines().next(), records.lines().count()), (Some(first), 8));
    world.write("port.json", r#"{"port":{"SAL":{"name":"Salt"},"XYZ":{"name":"New"}}}"#);
    world
        .run("ingest --cache ndjson.db --kind merge-patch --format csv port.json")
        .says("port.json,port.json,,,1,1,0,0\n");
    let quiet =
        world.run("ingest --schema backwater.toml --cache quiet.db --quiet morning.har").out();
    assert_eq!(quiet, "");
    world
        .query("SELECT count(*) AS n FROM booking WHERE sailing = 311", "--format csv")
        .says("n\n6\n");

    let entry = |url: &str, body: &str| {
        format!(
            r#"{{"request": {{"method": "GET", "url": "{url}"}}, "response": {{"status": 200, "content": {{"mimeType": "application/json", "text": "{body}"}}}}}}"#
        )
    };
    let recording = format!(
        r#"{{"log": {{"entries": [{}, {}]}}}}"#,
        entry("https://x.example/fleet", "{}"),
        entry("https://x.example/sailings/400", r#"{\"id\": 400}"#)
    );
    world.write("broken.har", &recording);
    let broken = world.run("ingest --cache cache.db broken.har");
    assert_eq!(broken.output.status.code(), Some(1));
    assert!(
        broken
            .err()
            .contains("error: broken.har: GET /fleet: the response: found no member \"vessels\""),
        "{}",
        broken.err()
    );
    assert!(broken.out().contains("sailing          1        1    1"), "{}", broken.out());
    world.query("SELECT id FROM sailing WHERE id = 400", "--format csv").says("id\n400\n");
    world.write("cut.har", &recording[..60]);
    world
        .run("ingest --cache cache.db cut.har")
        .fails(1, "cut.har: this is not a HAR recording: EOF");

    let url = "ingest --cache cache.db --url /sailings/311/bookings fleet.json departures.json";
    world.run(url).fails(2, "a URL is that of one response; name one file");
    world
        .run("ingest --cache cache.db --url /nowhere fleet.json")
        .fails(2, "there is no response rule for GET /nowhere");
    world
        .run("ingest --cache cache.db --as bookings --var sailing bookings-311.json")
        .fails(2, "expected NAME=VALUE");
    world
        .run("ingest --cache cache.db --as bookings bookings-311.json")
        .fails(1, "needs the request's variable \"sailing\"");
}

/// Updates as patches, and a row with its links as a tree.
#[test]
fn patches_are_applied_and_rows_are_shown_as_trees() {
    let world = World::loaded();
    world.write("live.json", r#"[{"op": "replace", "path": "/sailing/311/status", "value": "delayed"}, {"op": "add", "path": "/sailing/311/note", "value": "a \"fog\": [\\]"}]"#);
    world
        .run("ingest --cache cache.db --kind json-patch live.json")
        .says("live.json: 1 row changed");
    world.write("merge.json", r#"{"sailing": {"312": null, "311": {"delay_min": 15}}}"#);
    world
        .run("ingest --cache cache.db --kind merge-patch merge.json")
        .says("merge.json: 2 rows changed");
    let row = world
        .run("tables --cache cache.db --row sailing/311 --depth 1")
        .says("\n  \"route\": {\n    \"id\": \"NOR-SAL\",\n    \"from\": \"NOR\",");
    let row: serde_json::Value = serde_json::from_str(&row.out()).unwrap();
    assert_eq!(
        (&row["status"], &row["delay_min"], &row["note"]),
        (&"delayed".into(), &15.into(), &"a \"fog\": [\\]".into())
    );
    world.run("tables --cache cache.db --row board").says("{}");
    world
        .run("tables --cache cache.db sailing")
        .says("field        type            absent  missing\n")
        .says("route        link to route        0        0\n");
    world.run("tables --cache cache.db boat").fails(2, "there is no table \"boat\"");
    world
        .run("tables --cache cache.db --row sailing")
        .fails(2, "\"sailing\" may have many rows; name one by its id, as in `--row sailing/ID`");
    // What is nested too deep to be readable is not set out line by line.
    world.write("deep.toml", "table.t = { id = 'id', fields = { id = 'int', j = 'json' } }\nresponse.ts = { table = 't', records = '' }");
    let deep = format!("{}{}", "[".repeat(50_000), "]".repeat(50_000));
    world.write("deep.json", format!(r#"[{{"id":1,"j":{deep}}}]"#));
    world.run("ingest --schema deep.toml --cache deep.db --as ts deep.json").says("1 row");
    let row = world.run("tables --cache deep.db --row t/1").says("\"j\": [\n    [\n").out();
    assert!(row.len() < 150_000, "{} bytes", row.len());
    world.run("tables --cache cache.db --row sailing/312").fails(1, "sailing 312 is not there");
    world
        .run("tables --cache cache.db --row sailing/x")
        .fails(2, "found \"x\", expected an id of type int");
    world
        .run("ingest --cache cache.db --kind json-patch merge.json")
        .fails(1, "merge.json: a JSON Patch is an array of operations");
}

/// What is proposed reads the same files with nothing edited, and finds the demo's own tables.
#[test]
fn a_schema_is_proposed_that_reads_the_same_files() {
    let world = World::new();
    let proposed = world.run("infer morning.har").says("[table.sailing]").out();
    assert_eq!(proposed, world.run("infer morning.har").out(), "the same bytes");
    for line in [
        "id = \"code\"     # 6 different values\n",
        "from = { to = \"port\" } # 41 objects\n",
        "departs_at = \"timestamp\"   # 41 objects: times, kept in UTC\n",
        "status = \"text\"            # 41 objects: so far departed, boarding, delayed, on time\n",
        "note = \"text\"              # in 3 of 41 objects\n",
        "url = \"/departures{?port}\" # from 2 requests\nrecords = \"/sailings\"      # 40 records\n",
        "url = \"/sailings/{id}\" # from 1 request\ntable = \"sailing\"      # 1 record\n",
        "url = \"/sailings/{sailing}/bookings\" # from 2 requests\n",
        "fields = { sailing = \":sailing\" }    # the URL says it\n",
        "method = \"DELETE\"         # the requests' method\nurl = \"/bookings/{id}\"    # from 1 request\n",
    ] {
        assert!(proposed.contains(line), "{line}{proposed}");
    }
    world
        .run("infer morning.har")
        .notes("9 responses, 5 tables and 6 rules: 242 objects became 47 rows.")
        .notes("Left as json: tides_today.high (arrays of values that are not rows)")
        .notes("1. Is a port identified by code? Seen: 6 different values.");
    world.write("proposed.toml", &proposed);
    world.run("check proposed.toml").says("nothing wrong");
    let read = world.run("ingest --schema proposed.toml --cache proposed.db morning.har");
    read.says("11 responses, of which 9 were read by a rule");
    world.run("ingest --schema backwater.toml --cache own.db morning.har").says("Altogether");
    let asked = "SELECT id, route, vessel, departs_at, delay_min FROM sailing ORDER BY id";
    let rows =
        |cache: &str| world.call(&["query", "--cache", cache, "--format", "csv", asked], "").out();
    assert_eq!(rows("proposed.db"), rows("own.db"));

    // Files without a URL are read by the rules that are called after them.
    let files = "departures.json fleet.json bookings-311.json";
    world.write(
        "files.toml",
        world.run(&format!("infer {files}")).says("[response.bookings]").out(),
    );
    world.run("check files.toml").says("nothing wrong");
    let read = world.run(&format!("ingest --schema files.toml --cache files.db {files}"));
    read.says("in 3 responses held 327 objects");

    world.write("broken.json", "{\"sailings\": [");
    world.run("infer departures.json broken.json").fails(
        1,
        "broken.json: the response: it ends in the middle of a value at line 1 column 15: is it truncated?",
    );
    world.run("infer nowhere.json").fails(1, "nowhere.json: it cannot be read");
    world.run("infer --url /departures departures.json fleet.json").fails(2, "name one file");
    world.write("empty.har", "{\"log\": {\"entries\": []}}");
    world.run("infer empty.har").fails(1, "there is no JSON response in empty.har");
}

/// A schema is added to in place, and only if there is something to add.
#[test]
fn a_schema_is_added_to_in_its_file() {
    let world = World::new();
    let before = fs::read_to_string(world.path("backwater.toml")).unwrap();
    let printed = world.run("infer --update backwater.toml --dry-run morning.har").out();
    assert_eq!(fs::read_to_string(world.path("backwater.toml")).unwrap(), before);
    let update = "infer --update backwater.toml morning.har";
    world
        .run(update)
        .notes("Added to backwater.toml:\n  table tides_today\n  rule tides_today\n")
        .notes("9 responses: 240 objects became 46 rows.");
    let after = fs::read_to_string(world.path("backwater.toml")).unwrap();
    assert_eq!(after, printed);
    assert!(after.starts_with(&before));
    world.run("check backwater.toml").says("nothing wrong");
    world.run(update).notes("Nothing to add to backwater.toml.");
    assert_eq!(fs::read_to_string(world.path("backwater.toml")).unwrap(), after);

    world.write("broken.toml", "[table.port]\nid = 7\n");
    world.run("infer --update broken.toml morning.har").fails(1, "broken.toml:");
    world.run("infer --update nowhere.toml morning.har").fails(1, "it cannot be read");
    world.run("infer --dry-run morning.har").fails(2, "--update");
    fs::create_dir(world.path("islands")).unwrap();
    let mut call = vec!["infer".to_owned()];
    for island in ["tern", "norrin", "eel", "saltmere", "whin", "marsh", "outer", "kelp"] {
        let file = format!("islands/{island}.json");
        world.write(&file, format!("{{\"id\": \"{island}\", \"roads\": 2}}"));
        call.push(file);
    }
    world.call(&call.iter().map(String::as_str).collect::<Vec<_>>(), "").says(
        "[response.islands] # 8 responses called tern, norrin and 6 others: read them as islands",
    );
}

#[test]
fn a_plan_is_explained_as_a_tree_as_json_and_as_a_graph() {
    let world = World::loaded();
    world
        .run("explain --cache cache.db next_from")
        .says("next_from\n└─ limit 5 rows")
        .says("order s.departs_at, then the ids of s")
        .says("bindings  found by r.from = :port, then by s.departs_at >= :now")
        .says("left join vessel AS v")
        .says("by        the index of sailing.route: links back to r")
        .says("computes  count(*)");
    let json = world.run("explain --schema backwater.toml --format json by_status");
    let plan: serde_json::Value = serde_json::from_str(&json.out()).unwrap();
    assert_eq!(plan["plan"]["inputs"][0]["operator"], "group");
    assert_eq!(plan["plan"]["inputs"][0]["inputs"][0]["reads"], "status, cars_booked");
    let dot = world.run("explain --schema backwater.toml --format dot search").out();
    assert!(dot.starts_with("digraph plan {") && dot.trim_end().ends_with('}'), "{dot}");
    assert_eq!(dot.matches(" -> ").count() + 1, dot.matches("[label=").count(), "a tree: {dot}");
    world.run("explain --schema backwater.toml nothing").fails(2, "");
    world.run("explain by_status").fails(2, "--cache");
}

#[test]
fn a_scenario_is_played_and_every_outcome_explained() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/scenario.ndjson");
    let demo = demo.to_str().unwrap();
    let world = World::new();
    let trace = |more: &[&str]| world.call(&[&["trace", demo], more].concat(), "");
    let reported = trace(&[])
        .says("35 steps, 31 commits against 7 named queries")
        .says(" 24  311 is cancelled  sailing 1 deleted, booking 8 deleted")
        .says("by_status        deferred    sailing 311 was deleted")
        .says("the status panel is opened: by_status has 5 rows")
        .says(":text went from her to hero")
        .says("touched  in vain      time");
    trace(&["--why", "next_from@16"])
        .says("because :now went from 2031-05-04T05:41:00Z to 2031-05-04T05:46:00Z");
    trace(&["--why", "fleet@19"])
        .says("untouched: commit 19 changed booking; the query reads vessel and sailing");
    trace(&["--why", "search@1"]).says("search was not there yet");
    trace(&["--why", "fleet@32"])
        .fails(2, "the scenario has no commit 32; its commits are 1 to 31");
    trace(&["--why", "fleet"]).fails(2, "expected QUERY@COMMIT, such as by_status@3");
    trace(&["--row", "sailing/304"])
        .says("status       delayed                  commit 11, 304 is delayed");
    trace(&["--row", "sailing/311"])
        .fails(1, "there is no sailing 311; commit 24 (311 is cancelled) deleted it");
    // In each row of the matrix as many cells are touched as its total says.
    let json: serde_json::Value =
        serde_json::from_str(&trace(&["--format", "json"]).out()).unwrap();
    let steps = json["steps"].as_array().unwrap();
    let outcomes = |query: &str| {
        let reported = steps.iter().filter_map(|step| step["queries"].as_array()).flatten();
        reported
            .filter(|reached| reached["query"] == query && reached["outcome"] != "untouched")
            .count()
    };
    for line in
        reported.out().lines().skip_while(|line| !line.starts_with("commit ")).skip(1).take(7)
    {
        let query = line.split_whitespace().next().unwrap();
        let letters = line.chars().skip(17).filter(|c| "MR=d!".contains(*c)).count();
        assert_eq!(outcomes(query), letters, "{line}");
        assert!(line.contains(&format!("  {letters} ")), "{line}");
    }
}

#[test]
fn a_scenario_that_cannot_be_played_names_the_line_and_what_it_expects() {
    let world = World::new();
    let play = |steps: &str| {
        world.write("day.ndjson", steps);
        world.run("trace day.ndjson --schema backwater.toml")
    };
    play("{\"reed\": \"fleet\"}").fails(1, "day.ndjson:1: a step has one of ingest, merge_patch");
    play("\n[1]").fails(1, "day.ndjson:2: a step is a JSON object");
    play("{\"read\": \"flet\"}")
        .fails(1, "day.ndjson:1: the schema has no query \"flet\"; did you mean \"fleet\"?");
    play("{\"read\": \"search\"}")
        .fails(1, "search cannot be read yet: its parameters have no values; set them before");
    play("{\"set\": {\"txt\": 1}}").fails(1, "no named query has a parameter :txt");
    play("{\"set\": {\"text\": [1]}}").fails(1, "a parameter's value is a text");
    play("{\"ingest\": \"gone.json\", \"rule\": \"fleet\"}").fails(1, "gone.json cannot be read");
    play("{\"ingest\": \"fleet.json\"}").fails(1, "\"ingest\" needs a \"rule\" or a \"url\"");
    play("{\"merge_patch\": {\"sailing\": {\"1\": {\"dely\": 1}}}}")
        .fails(1, "day.ndjson:1: /sailing/1");
    play("{\"json_patch\": \"fleet.json\"}").fails(1, "day.ndjson:1:");
    play("").says("0 steps, 0 commits");
    world.write("bare.ndjson", "{\"read\": \"fleet\"}");
    world.run("trace bare.ndjson").fails(2, "names no schema: give one with --schema");
    world.run("trace none.ndjson").fails(1, "none.ndjson: it cannot be read");
}

#[test]
fn a_file_is_exported_and_taken_in_again() {
    let world = World::loaded();
    let whole = world
        .run("export --cache cache.db")
        .says("{\"backwater\":{\"format\":1,\"commit\":1,")
        .out();
    assert_eq!(
        whole.lines().count(),
        81,
        "a line for each row, one about the cache, one for the board"
    );
    world.run("export --cache cache.db --out all.ndjson").says("");
    assert_eq!(fs::read_to_string(world.path("all.ndjson")).unwrap(), whole);
    world
        .run("ingest --cache copy.db --kind export all.ndjson")
        .says("all.ndjson: 79 rows changed");
    let copy = world.run("export --cache copy.db").says("").out();
    let sorted = |text: &str| {
        let mut rows: Vec<String> = text.lines().skip(1).map(str::to_owned).collect();
        rows.sort();
        rows
    };
    assert_eq!(sorted(&copy), sorted(&whole));
    world.run("query --cache copy.db by_status").says("cancelled");
    world
        .run("export --cache cache.db --format csv vessel")
        .says("id,name,cars_max,speed_kn,built,home\n")
        .says("marram,Marram,42,,,\n");
    world
        .run("export --cache cache.db vessel")
        .says("{\"id\":\"marram\",\"name\":\"Marram\",\"cars_max\":42}\n");
    world.run("export --cache cache.db --format csv by_status").says("status,sailings,cars\n");
    world
        .run("export --cache cache.db --format json:api route")
        .says("\"relationships\":{\"from\":{\"data\":{\"type\":\"port\",\"id\":\"NOR\"}}");
    for (call, said) in [
        ("export --cache cache.db --format csv", "a CSV file has one table"),
        ("export --cache cache.db boat", "there is no table \"boat\""),
        (
            "export --cache cache.db --format json:api by_status",
            "the rows of a query are no resources",
        ),
        ("export --cache cache.db next_from", ":port"),
    ] {
        world.run(call).fails(2, said);
    }
    world
        .run("ingest --cache other.db --kind export departures.json")
        .fails(1, "this is no whole export");
    world
        .run("export --cache cache.db --out no/where.ndjson")
        .fails(1, "no/where.ndjson: it cannot be written");
    assert!(!world.path("other.db").exists());
}

#[test]
fn a_cache_file_is_looked_through_and_held_against_a_schema() {
    let world = World::loaded();
    world
        .run("check --cache cache.db --format csv")
        .says("table,query,rows,missing,times_tried,against_sqlite\n");
    assert_eq!(world.run("check --cache cache.db --quiet").out(), "");
    world
        .run("check --cache cache.db")
        .says("cache.db: every row is as it was written")
        .says("sailing    60                      0")
        .says("by_status                  1     5  the same");
    let schema = fs::read_to_string(world.path("backwater.toml")).unwrap();
    world.run("check backwater.toml --cache cache.db").says("nothing would change");
    let other = schema
        .replace("delay_min = \"int\"", "minutes_late = { type = \"float\", was = \"delay_min\" }")
        .replace("delay_min", "minutes_late")
        .replace("was = \"minutes_late\"", "was = \"delay_min\"")
        .replace("speed_kn = \"float\"\n", "");
    world.write("other.toml", &other);
    let before = fs::read(world.path("cache.db")).unwrap();
    world
        .run("check other.toml --cache cache.db")
        .says("cache.db: opened with other.toml, this would be done:")
        .says("  sailing.minutes_late was sailing.delay_min\n")
        .says("  sailing.minutes_late went from int to float\n")
        .says("  vessel.speed_kn is not named any more, and had no values\n");
    assert_eq!(fs::read(world.path("cache.db")).unwrap(), before);
    // What would be deleted, as it is too much: announced beforehand, and reported by the opener.
    world.write("small.toml", format!("limits.stored_bytes = 3000\n{schema}"));
    world
        .run("check small.toml --cache cache.db")
        .says("  the rows of sailing are dated from now on")
        .says("  sailing: 29 rows deleted, as more than stored_bytes are stored\n");
    assert_eq!(fs::read(world.path("cache.db")).unwrap(), before);
    fs::copy(world.path("cache.db"), world.path("small.db")).unwrap();
    let ran = world.run("ingest --schema small.toml --cache small.db --as fleet fleet.json");
    assert_eq!(ran.err(), "sailing: 29 rows deleted, as more than stored_bytes are stored\n");
    ran.says("fleet.json");
    world.write("lossy.toml", schema.replace("status = \"text\"", "status = \"int\""));
    world.run("check lossy.toml --cache cache.db").fails(1, "cannot be int without loss");
    let sqlite = rusqlite::Connection::open(world.path("cache.db")).unwrap();
    sqlite.execute("UPDATE sailing SET cars_booked = 1 WHERE id = 311", []).unwrap();
    world.run("check --cache cache.db").fails(1, "are not those that were written");
    world.run("check").fails(2, "name a schema, a cache file with --cache, or both");
}

/// What one writes to standard output another takes from standard input, and nothing is lost or
/// replaced on the way into a file.
#[test]
fn exports_go_where_they_should_and_nowhere_else() {
    let world = World::loaded();
    let export = world.run("export --cache cache.db");
    let lines = export.out();
    world.call(&["ingest", "--cache", "new.db", "--kind", "export", "-"], &lines).says("79 rows");
    assert_eq!(world.run("export --cache new.db").out(), lines);

    let before = fs::read(world.path("cache.db")).unwrap();
    world.run("export --cache cache.db --out cache.db").fails(2, "this is the cache itself");
    assert_eq!(fs::read(world.path("cache.db")).unwrap(), before);
    world.run("export --cache cache.db --out rows.ndjson").says("");
    assert_eq!(fs::read_to_string(world.path("rows.ndjson")).unwrap(), lines);
    #[cfg(unix)]
    {
        use std::os::unix::fs::{MetadataExt, symlink};
        let mode = |name: &str| fs::metadata(world.path(name)).unwrap().mode() & 0o777;
        assert_eq!((mode("cache.db"), mode("rows.ndjson")), (0o600, 0o600));
        // A link stays one, and what it points at gets the rows.
        symlink("elsewhere.ndjson", world.path("link.ndjson")).unwrap();
        world.write("elsewhere.ndjson", "old");
        world.run("export --cache cache.db --out link.ndjson").says("");
        assert!(fs::symlink_metadata(world.path("link.ndjson")).unwrap().is_symlink());
        assert_eq!(fs::read_to_string(world.path("elsewhere.ndjson")).unwrap(), lines);
        world.run("export --cache cache.db --out /dev/null").says("");
        assert!(!fs::metadata("/dev/null").unwrap().is_file());
        let full = "export --cache cache.db --out /dev/full";
        world.run(full).fails(1, "/dev/full: it cannot be written");
        // A symbolic link is no lock of ours, and what it points at is left alone.
        world.write("precious", "my diary");
        symlink("precious", world.path("other.db-lock")).unwrap();
        let call = "ingest --schema backwater.toml --cache other.db --as fleet fleet.json";
        let ran = world.run(call);
        assert!(ran.err().contains("other.db-lock is no file of Backwater's"), "{}", ran.err());
        assert_eq!(fs::read_to_string(world.path("precious")).unwrap(), "my diary");
    }
}

/// What one file has wrong is nothing to the others, and a call that is wrong leaves nothing
/// behind.
#[test]
fn what_can_be_taken_in_is() {
    let world = World::new();
    world.write("broken-1.json", "{");
    let call = "ingest --schema backwater.toml --cache new.db --as fleet broken-1.json fleet.json";
    let ran = world.run(call);
    assert_eq!(ran.output.status.code(), Some(1));
    assert!(ran.out().contains("fleet.json: 1,032 bytes"), "{}", ran.out());
    assert!(ran.err().contains("broken-1.json: "), "{}", ran.err());
    assert!(
        ran.err().contains("1 of 2 files could not be taken in; the others were"),
        "{}",
        ran.err()
    );
    world.run("query --cache new.db --format ndjson SELECT").fails(2, "no query \"SELECT\"");
    world.run("tables --cache new.db").says("vessel");

    for call in [
        "ingest --schema backwater.toml --cache none.db --as nonsense fleet.json",
        "ingest --schema backwater.toml --cache none.db --url /nothing fleet.json",
        "ingest --schema backwater.toml --cache broken-1.json --as fleet fleet.json",
    ] {
        assert_ne!(world.run(call).output.status.code(), Some(0), "{call}");
    }
    for left in ["none.db", "none.db-lock", "broken-1.json-lock"] {
        assert!(!world.path(left).exists(), "{left}");
    }
    world.run("query --cache new.db by_statu").fails(2, "did you mean \"by_status\"?");

    // One entry of a recording that is no base64 is nothing to the others.
    let entry = |url: &str, content: &str| {
        format!(
            r#"{{"request":{{"method":"GET","url":"{url}"}},"response":{{"status":200,"content":{content}}}}}"#
        )
    };
    let fleet = fs::read_to_string(world.path("fleet.json")).unwrap();
    let text = serde_json::to_string(&format!("\u{feff}{fleet}")).unwrap();
    let good = entry(
        "https://x.example/fleet",
        &format!(r#"{{"mimeType":"application/json","text":{text}}}"#),
    );
    let bad = entry(
        "https://x.example/fleet",
        r#"{"mimeType":"application/json","encoding":"base64","text":"***"}"#,
    );
    world.write("day.har", format!(r#"{{"log":{{"entries":[{bad},{good}]}}}}"#));
    let ran = world.run("ingest --cache new.db day.har");
    assert!(ran.out().contains("2 responses, of which"), "{} {}", ran.out(), ran.err());
    world.run("infer --url /fleet day.har").fails(2, "which has the URLs of its responses");

    if cfg!(unix) {
        let full = fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
        for call in [["check", "backwater.toml"], ["tables", "--cache=new.db"]] {
            let mut command = std::process::Command::new(assert_cmd::cargo::cargo_bin("backwater"));
            let command = command.current_dir(world.0.path()).args(call);
            let output = command.stdout(full.try_clone().unwrap()).output().unwrap();
            let reported = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(
                reported.contains("No space left") && !reported.contains("panicked"),
                "{reported}"
            );
        }
    }
}

/// A scenario asks a server, which answers as the scenario says.
#[test]
fn a_scenario_asks_and_is_answered() {
    let world = World::new();
    let steps = r#"{"schema": "backwater.toml"}
        {"set": {"now": "2031-05-04T07:40:00+02:00"}}
        {"label": "the page is opened", "ask": "departures", "values": {"port": "SAL"}}
        {"answer": "departures.json", "fields": {"cache-control": "max-age=60", "etag": "\"1\""}}
        {"label": "again", "ask": "departures", "values": {"port": "SAL"}}
        {"pass": 61}
        {"label": "and again", "ask": "departures", "values": {"port": "SAL"}}
        {"answer": null, "status": 304}
        {"label": "the fleet", "ask": "fleet"}
        {"fail": "network"}
        {"pass": 1}
        {"answer": {"vessels": [{"id": "marram", "cars_max": "many"}]}}"#;
    fs::write(world.0.path().join("served.ndjson"), steps).unwrap();
    let said = world.run("trace served.ndjson").out();
    for line in [
        "the page is opened: GET /departures?port=SAL\n",
        "departures loaded: GET /departures?port=SAL",
        "again: no request\n",
        "the server answers 304\n",
        "the network fails: fleet failed, network: the connection was lost\n",
        "1 s later: GET /fleet\n",
        "fleet failed, unreadable: 200, /vessels/0/cars_max: found string \"many\", expected int",
    ] {
        assert!(said.contains(line), "{line} is not in\n{said}");
    }
    assert!(!said.contains("backwater_answer"), "{said}");
    for (step, wrong) in [
        (r#"{"answer": null}"#, "there is no request to answer"),
        (r#"{"ask": "nothing"}"#, "there is no response rule \"nothing\""),
        (r#"{"fail": "badly"}"#, "\"fail\" is \"network\""),
        (r#"{"ask": "fleet", "status": 3}"#, "this step takes no \"status\""),
    ] {
        fs::write(world.0.path().join("wrong.ndjson"), step).unwrap();
        world.run("trace --schema backwater.toml wrong.ndjson").fails(1, wrong);
    }
}

/// A server on this machine, which is asked over its socket and ended when the test does.
struct Served(std::process::Child, String);

impl Drop for Served {
    fn drop(&mut self) {
        let _it_may_have_ended = self.0.kill();
        let _ended = self.0.wait();
    }
}

impl Served {
    fn start(world: &World, arguments: &[&str]) -> Self {
        let mut command = std::process::Command::new(assert_cmd::cargo::cargo_bin("backwater"));
        command.current_dir(world.0.path()).args(["serve", "--port", "0"]).args(arguments);
        let mut child = command.stdout(std::process::Stdio::piped()).spawn().unwrap();
        let mut line = String::new();
        let mut out = std::io::BufReader::new(child.stdout.take().unwrap());
        std::io::BufRead::read_line(&mut out, &mut line).unwrap();
        let address = line.split("http://").nth(1).unwrap().split(',').next().unwrap();
        // What it prints of requests goes on.
        std::thread::spawn(move || std::io::copy(&mut out, &mut std::io::sink()));
        Self(child, address.to_owned())
    }

    fn get(&self, path: &str, field: &str) -> String {
        let mut stream = std::net::TcpStream::connect(&self.1).unwrap();
        let request = format!("GET {path} HTTP/1.1\r\nhost: x\r\nconnection: close\r\n{field}\r\n");
        std::io::Write::write_all(&mut stream, request.as_bytes()).unwrap();
        let mut response = Vec::new();
        let _cut_on_purpose = std::io::Read::read_to_end(&mut stream, &mut response);
        String::from_utf8_lossy(&response).into_owned()
    }
}

/// The made-up API and a recording are served with validators, and fail on purpose.
#[test]
fn a_server_stands_in() {
    let world = World::new();
    let ferries = Served::start(&world, &["--quiet"]);
    let sailing = ferries.get("/sailings/311", "");
    assert!(sailing.starts_with("HTTP/1.1 200 OK") && sailing.contains("\"id\":311"), "{sailing}");
    let tag = sailing.split("etag: ").nth(1).unwrap().split("\r\n").next().unwrap();
    let again = ferries.get("/sailings/311", &format!("if-none-match: {tag}\r\n"));
    assert!(again.starts_with("HTTP/1.1 304 "), "{again}");
    let feed = std::net::TcpStream::connect(&ferries.1).unwrap();
    drop(feed);

    let twin = Served::start(&world, &["morning.har"]);
    assert!(twin.get("/fleet", "").contains("\"id\":\"marram\""));
    let unknown = twin.get("/nowhere", "");
    assert!(unknown.starts_with("HTTP/1.1 404 ") && unknown.contains("not in the recording"));

    let broken = Served::start(&world, &["--fail", "1", "--delay", "1ms"]);
    assert!(broken.get("/fleet", "").starts_with("HTTP/1.1 503 "));
    let lossy = Served::start(&world, &["--lose", "1"]);
    let cut = lossy.get("/fleet", "");
    assert!(!cut.contains("sea-pink"), "{cut}");

    let port = ferries.1.split(':').nth(1).unwrap();
    world.run(&format!("serve --port {port}")).fails(1, "is another server running?");
    world.run("serve --fail 2").fails(2, "from 0 to 1");
    world.run("serve --fail 0.7 --lose 0.7").fails(2, "more than all requests");
    world.run("serve nothing.har").fails(1, "nothing.har");
}
