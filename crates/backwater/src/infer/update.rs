//! Adding what samples show to a schema that people have written.

use std::collections::{BTreeMap, BTreeSet};

use super::claims::Declared;
use super::columns::Deciding;
use super::evidence::View;
use super::merge::Document;
use super::rules::BesideRows;
use super::scan::Written;
use super::text::{Additions, counted, one_line, place_of};
use super::urls::{Path, encoded};
use super::{Failed, Found, Group, Proposal, Refused, Samples, Trial, Untried, accounted};
use crate::error::Result;
use crate::schema::{
    Branch, FieldDef, FieldKind, FieldNo, ResponsePart, Rule, Schema, Scope, TableOrigin, Template,
    decoded,
};

/// Rows that stand beside the records of a rule that the schema has, and that it does not read.
#[derive(Clone)]
pub(super) struct MoreRows {
    pub(super) rule: String,
    pub(super) rows: BesideRows,
}

/// What is not added to what is there, since with it a sample would be refused.
#[derive(Default)]
struct Withheld {
    rows_of: BTreeSet<String>,
    fields: bool,
    all: bool,
}

/// What came of a schema when it was added to.
struct Merged {
    text: String,
    added: Vec<String>,
}

impl Samples {
    /// Adds what they show to a schema, and leaves what stands there as it is, comments and all:
    /// fields of its tables that it does not have, query variables that the URLs of its rules
    /// lack, rules for responses that it does not read, rows that stand beside the records of its
    /// rules, and the tables that all this needs. `name` is what errors call the schema, such as the
    /// path of its file.
    ///
    /// What was commented out, be it a field, a rule or rows beside its records, is not added again.
    ///
    /// # Errors
    /// [`ErrorKind::Schema`](crate::ErrorKind::Schema) as [`Schema::parse`] does.
    ///
    /// ```
    /// use backwater::{Request, infer::Samples};
    ///
    /// let schema = r#"
    /// [table.port] # the harbours, as people say
    /// id = "code"
    /// [table.port.fields]
    /// code = "text"
    /// # lat = "float"
    /// name = { type = "text", required = true }
    ///
    /// [response.ports]
    /// url = "/ports"
    /// table = "port"
    /// "#;
    /// let mut samples = Samples::new();
    /// let ports = r#"[{"code": "SAL", "name": "Saltmere", "lat": 54.1, "berths": 3}, {"code": "NOR", "berths": 2}]"#;
    /// samples.add(Request::get("/ports"), ports)?;
    ///
    /// let update = samples.update("backwater.toml", schema)?;
    /// let added = r#"name = { type = "text", required = true }
    /// berths = "int" # 2 objects
    /// "#;
    /// assert!(update.text().contains(added));
    /// assert_eq!(update.added().collect::<Vec<_>>(), ["field port.berths"]);
    /// // What the schema says is not changed; what speaks against it is said.
    /// let against = update.against().next().unwrap();
    /// assert!(against.starts_with("response.ports refuses GET /ports: "), "{against}");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn update(&self, name: &str, text: &str) -> Result<Proposal> {
        let schema = Schema::parse(name, text)?;
        let document = Document::parse(text).map_err(|error| error.at(name))?;
        let (document, schema, widened) =
            self.widened(&document, &schema).unwrap_or((document, schema, Vec::new()));
        let reading = self.reading(&schema);
        let declared = document.declared(text, schema, reading);
        let mut found = self.find_out(Some(&declared));
        let read = self.groups_read(&declared);
        let before = self.try_out(declared.schema.clone(), read_groups(&read));
        let refused_before: BTreeSet<usize> = before.failed.iter().map(|it| it.sample).collect();
        let more = self.more_rows(&found, &declared);
        let mut against = self.against(&found, &declared, &before);
        found.paths.retain(|path| path.target.read_by.is_none());
        let (mut refused, mut withheld) = (Refused::new(), Withheld::default());
        loop {
            let mut untried = self.decide(&found, &refused, Some(&declared));
            if withheld.all {
                untried.rules.clear();
            }
            let more: Vec<MoreRows> = {
                let is_kept =
                    |more: &&MoreRows| !withheld.all && !withheld.rows_of.contains(&more.rule);
                more.iter().filter(is_kept).cloned().collect()
            };
            let proposed = self.proposed(&found, &untried, &more);
            let tables: Vec<&str> = declared.schema.table_names().collect();
            let mut additions = proposed.additions(&tables);
            if withheld.fields {
                additions.fields.clear();
            }
            if withheld.all {
                additions = Additions::default();
            }
            let merged = self.merged(&document, &declared, &found, &untried, &more, &additions);
            let (merged, schema) = match merged {
                Ok(merged) => merged,
                // A rule may need a field that is withheld.
                Err(_) if !withheld.all => {
                    withheld.all = true;
                    continue;
                }
                Err(error) => return Err(error),
            };
            let taken = self.taken_over(&declared, &schema);
            if !taken.is_empty() {
                taken
                    .into_iter()
                    .for_each(|(rule, why)| refused.entry(rule).or_default().push(why));
                continue;
            }
            let new = untried.rules.iter().map(|rule| Group {
                rule: &rule.name,
                samples: &rule.samples,
                goes_on: true,
            });
            let shadowing = kept_as_json_by_rules(&declared.schema, &schema);
            let mut trial = self.try_out(schema, read_groups(&read).chain(new));
            trial.failed.retain(|failed| !refused_before.contains(&failed.sample));
            let few = few_of(&mut trial.failed, &untried);
            let Trial { failed, totals, rows } = trial;
            if failed.is_empty() {
                let used: Vec<usize> = proposed.used().into_iter().collect();
                let account = accounted(&found, &untried, &used, (&totals, rows));
                let account = account.of_update(&self.unseen(&found, &declared, &untried));
                let Merged { text, added } = merged;
                let added = widened.into_iter().chain(added).collect();
                against.extend(self.refusals(&few));
                against.extend(shadowing);
                return Ok(Proposal { text, refused: Vec::new(), account, added, against });
            }
            for Failed { rule, sample, why } in failed {
                if declared.reading[sample].is_none() {
                    refused.entry(rule).or_default().push(why.to_string());
                } else if withheld.rows_of.insert(rule.clone()) {
                    continue;
                } else if !withheld.fields {
                    withheld.fields = true;
                } else {
                    // What is new stands in the way of what there is.
                    withheld.all = true;
                    refused.entry(rule).or_default().push(why.to_string());
                }
            }
        }
    }

    /// The rules that read the samples, by their places.
    fn reading(&self, schema: &Schema) -> Vec<Option<usize>> {
        let reading = self.samples.iter().map(|sample| {
            let (rule, _) = sample.request.resolve(schema).ok()?;
            schema.rules.iter().position(|known| known.name == rule.name)
        });
        reading.collect()
    }

    /// Adds to the URLs of rules the query variables without which they do not read a request, and
    /// says so; `None` if there are none. A list is identified by its variables, and what a rule is
    /// complete for may depend on them: these stay as they are.
    fn widened(
        &self,
        before: &Document,
        schema: &Schema,
    ) -> Option<(Document, Schema, Vec<String>)> {
        let reading = self.reading(schema);
        let mut more: BTreeMap<usize, Vec<String>> = BTreeMap::new();
        for (sample, _) in self.samples.iter().zip(&reading).filter(|(_, rule)| rule.is_none()) {
            let Some(url) = sample.request.url().filter(|_| sample.request.rule_name().is_none())
            else {
                continue;
            };
            let rules = schema.rules.iter().enumerate().filter(|(_, rule)| {
                let is_plain = rule.list.is_none() && rule.complete.is_none();
                is_plain && rule.also_urls.is_empty() && rule.reads_method(sample.request.method())
            });
            let lacking = rules
                .filter_map(|(number, rule)| Some((number, lacking(rule.url.as_ref()?, url)?)));
            if let Some((rule, names)) = lacking.min_by_key(|(_, names)| names.len()) {
                let known = more.entry(rule).or_default();
                names.into_iter().for_each(|name| {
                    if !known.contains(&name) {
                        known.push(name);
                    }
                });
            }
        }
        let (mut document, mut added) = (before.clone(), Vec::new());
        for (number, names) in &more {
            let rule = &schema.rules[*number];
            let template = with_variables(rule.url.as_ref()?.as_str(), names);
            document.set_url(&rule.name, &template).ok()?;
            let what = if names.len() == 1 { "variable" } else { "variables" };
            added.push(format!("{what} {} in the URL of rule {}", names.join(", "), rule.name));
        }
        let now = Schema::parse(&schema.name, &document.clone().with("", "").ok()?).ok()?;
        let mut both = reading.iter().zip(self.reading(&now));
        let reads_on = both.all(|(before, now)| before.is_none() || *before == now);
        (!added.is_empty() && reads_on).then_some((document, now, added))
    }

    /// New rules that would read what a rule of the schema reads.
    fn taken_over(&self, declared: &Declared, now: &Schema) -> BTreeMap<String, String> {
        let samples = self.samples.iter().enumerate();
        let taken = samples.filter_map(|(number, sample)| {
            let known = declared.rule(number)?;
            let (reading, _) = sample.request.resolve(now).ok()?;
            let why = || format!("rule {} reads some of these responses", known.name);
            (reading.name != known.name).then(|| (reading.name.to_string(), why()))
        });
        taken.collect()
    }

    /// The samples that the schema's rules read, by these.
    fn groups_read<'d>(&self, declared: &'d Declared) -> Vec<(&'d Rule, Vec<usize>)> {
        let mut groups: Vec<(&Rule, Vec<usize>)> = Vec::new();
        for sample in 0..self.samples.len() {
            let Some(rule) = declared.rule(sample) else { continue };
            match groups.iter_mut().find(|(known, _)| known.name == rule.name) {
                Some((_, samples)) => samples.push(sample),
                None => groups.push((rule, vec![sample])),
            }
        }
        groups
    }

    /// Rows that stand where the rules that read the responses do not look.
    fn more_rows(&self, found: &Found, declared: &Declared) -> Vec<MoreRows> {
        let deciding = Deciding::new(&found.world, &found.entities, Some(declared));
        let mut more = Vec::new();
        for path in &found.paths {
            if let Some(rule) = declared.read_by(path).filter(|_| path.target.method != "DELETE") {
                self.more_rows_of(&deciding, declared, (path, rule), &mut more);
            }
        }
        more
    }

    fn more_rows_of(
        &self,
        deciding: &Deciding<'_>,
        declared: &Declared,
        (path, rule): (&Path, &Rule),
        more: &mut Vec<MoreRows>,
    ) {
        let written = path.samples.iter().map(|sample| self.samples[*sample].written).max();
        let answer = deciding.answer(&path.roots, written.unwrap_or(Written::Json));
        for found in answer.found {
            let rows = deciding.beside(found).ok();
            let rows = rows.filter(|rows| !looks_at(&declared.schema, rule, rows));
            let Some(rows) = rows else { continue };
            let is_known = |known: &MoreRows| {
                *known.rule == *rule.name
                    && known.rows.way == rows.way
                    && known.rows.typed == rows.typed
            };
            let table = deciding.entities.list[rows.table].name.clone();
            let is_declined = declared.declined_rows.contains(&(rule.name.to_string(), table));
            if !is_declined && !more.iter().any(is_known) {
                more.push(MoreRows { rule: rule.name.to_string(), rows });
            }
        }
    }

    /// Adds to the text of the schema.
    fn merged(
        &self,
        document: &Document,
        declared: &Declared,
        found: &Found,
        untried: &Untried,
        more: &[MoreRows],
        additions: &Additions,
    ) -> Result<(Merged, Schema)> {
        let mut document = document.clone();
        let mut added = Vec::new();
        for (table, line, comment) in &additions.fields {
            document.add_field(table, line, &one_line(comment))?;
            let field = line.split(" = ").next().unwrap_or(line);
            added.push(format!("field {table}.{field}"));
        }
        for MoreRows { rule, rows } in more {
            let table = &found.entities.list[rows.table].name;
            document.add_rows(rule, table, &place_of(rows))?;
            added.push(format!("rows of {table} in rule {rule}"));
        }
        let head =
            format!("Added by `backwater infer` from {}.", counted(self.samples.len(), "response"));
        let text = document.with(&additions.blocks, &head)?;
        let schema = Schema::parse(&declared.schema.name, &text)?;
        let new = schema.table_numbers().map(|number| schema.table(number)).filter(|table| {
            let known = declared.schema.find_table(&table.name).is_some();
            table.made == TableOrigin::Declared && !known
        });
        added.extend(new.map(|table| format!("table {}", table.name)));
        added.extend(untried.rules.iter().map(|rule| format!("rule {}", rule.name)));
        Ok((Merged { text, added }, schema))
    }

    /// What speaks against the schema: the responses that its rules refuse, ids that are none, and
    /// rows that it keeps as json.
    fn against(&self, found: &Found, declared: &Declared, before: &Trial) -> Vec<String> {
        let mut against = self.refusals(&before.failed);
        for (one, other, shared) in found.entities.alike.iter() {
            let (one, other) = (&declared.table(one).name, &declared.table(other).name);
            let things = counted(shared, "thing");
            against.push(format!("tables {one} and {other} hold the same: {things} in both"));
        }
        for entity in &found.entities.list {
            if let Some((table, doubt)) = entity.declared.zip(entity.doubt.as_ref()) {
                against.push(format!("table.{}: {doubt}", declared.table(table).name));
            }
        }
        against.extend(rows_kept_as_json(found, declared));
        against
    }

    /// Which responses rules refuse, and why: the first of each rule.
    fn refusals(&self, failed: &[Failed]) -> Vec<String> {
        let mut refusals = Vec::new();
        let mut told: Vec<(&str, usize)> = Vec::new();
        for Failed { rule, .. } in failed {
            match told.iter_mut().find(|(known, _)| known == rule) {
                Some((_, times)) => *times += 1,
                None => told.push((rule, 1)),
            }
        }
        for (rule, times) in told {
            let first = failed.iter().find(|failed| failed.rule == rule);
            let Some(Failed { sample, why, .. }) = first else { continue };
            let more = match times - 1 {
                0 => String::new(),
                more => format!(" (and {})", counted(more, "more response")),
            };
            let request = &self.samples[*sample].request;
            let asked = request.url().map_or_else(
                || "the response".to_owned(),
                |url| format!("{} {url}", request.method()),
            );
            refusals.push(format!(
                "response.{rule} refuses {asked}: {}{more}",
                one_line(&why.to_string())
            ));
        }
        refusals
    }

    /// Fields of the schema that no object of the samples has, where there are several.
    fn unseen(&self, found: &Found, declared: &Declared, untried: &Untried) -> Vec<String> {
        let mut unseen = Vec::new();
        for (entity, table) in found.entities.list.iter().zip(&untried.tables) {
            let Some(number) = entity.declared else { continue };
            let seen: usize = entity.objects.iter().map(|it| found.world.objects(*it).seen).sum();
            if seen < SEVERAL {
                continue;
            }
            let definition = declared.table(number);
            let from_elsewhere: BTreeSet<FieldNo> = {
                let rules = declared.schema.rules.iter().filter(|rule| rule.table == number);
                rules
                    .flat_map(|rule| {
                        let scope = match &rule.complete {
                            Some(Scope::Rows(rows)) => rows.as_slice(),
                            _ => &[],
                        };
                        let given = rule.given.iter().chain(scope).map(|(field, _)| *field);
                        given.chain(rule.taken.iter().map(|(field, _)| *field)).collect::<Vec<_>>()
                    })
                    .collect()
            };
            let types = definition.fields.iter().filter_map(FieldDef::one_of);
            let types: Vec<FieldNo> = types.map(|one_of| one_of.type_field).collect();
            for (field, column) in definition.field_numbers().zip(&table.columns) {
                let is_from_server = definition.field(field).persist
                    && !from_elsewhere.contains(&field)
                    && !types.contains(&field)
                    && !definition.id.contains(&field);
                if is_from_server && column.way.is_empty() {
                    unseen.push(format!("{}.{}", definition.name, column.name));
                }
            }
        }
        unseen
    }
}

/// The fields of the schema's tables that are json and hold rows: they may have been empty in all
/// that was seen before.
fn rows_kept_as_json(found: &Found, declared: &Declared) -> Vec<String> {
    let mut kept = Vec::new();
    for entity in &found.entities.list {
        let Some(definition) = entity.declared.map(|table| declared.table(table)) else { continue };
        let members = View::members(&found.world, &entity.objects);
        for field in definition.fields.iter().filter(|field| field.kind == FieldKind::Json) {
            let member = members.iter().find(|member| field.from.parts() == [member.name]);
            let Some(view) = member.map(|member| &member.view) else { continue };
            let elements = view.elements().objects();
            let to = if elements.is_empty() { "to" } else { "to_many" };
            let rows = found.entities.only(&[view.objects(), elements].concat());
            let rows = rows.map(|table| &found.entities.list[table]);
            if let Some(rows) = rows.filter(|rows| rows.identity.is_own()) {
                kept.push(format!(
                    "field {}.{} is json and holds rows of {}: `{{ {to} = \"{}\" }}` links them",
                    definition.name, field.name, rows.name, rows.name
                ));
            }
        }
    }
    kept
}

/// Rules of the schema that keep whole responses as json, where a new rule reads such responses as
/// rows: of several that fit a URL, the one that says more letter by letter reads it.
fn kept_as_json_by_rules(before: &Schema, now: &Schema) -> Vec<String> {
    let is_json = |part: &ResponsePart| match part {
        ResponsePart::Value(table, field) => {
            now.table(*table).field(*field).kind == FieldKind::Json
        }
        _ => false,
    };
    let is_new = |rule: &&Rule| !before.rules.iter().any(|known| known.name == rule.name);
    let mut kept = Vec::new();
    for rule in
        now.rules.iter().filter(|rule| !is_new(rule) && rule.places.here.iter().any(is_json))
    {
        let urls: Vec<String> = rule.urls().map(an_instance).collect();
        let reads_rows = |new: &&Rule| {
            new.places.here.contains(&ResponsePart::Records)
                && new.reads_method(&rule.method)
                && urls.iter().any(|url| new.urls().any(|template| template.matches(url).is_some()))
        };
        if let Some(new) = now.rules.iter().filter(is_new).find(reads_rows) {
            let (rule, new, table) = (&rule.name, &new.name, &now.table(new.table).name);
            kept.push(format!(
                "response.{rule} keeps as json what response.{new} reads as rows of {table}"
            ));
        }
    }
    kept
}

/// A URL of a template: its variables are their own names, and without a query.
fn an_instance(template: &Template) -> String {
    let parts = template.as_str().split(['{', '}']).enumerate();
    let is_query = |part: &str| part.starts_with(['?', '&']);
    parts.filter(|(at, part)| at % 2 == 0 || !is_query(part)).map(|(_, part)| part).collect()
}

/// A field that none of so many objects has is told.
const SEVERAL: usize = 5;

/// The query variables that a template lacks to be one of a request's.
fn lacking(template: &Template, url: &str) -> Option<Vec<String>> {
    let (path, query) = url.split('#').next()?.split_once('?')?;
    let name = |pair: &&str| encoded(&decoded(pair.split('=').next().unwrap_or(pair)));
    let is_known = |pair: &&str| template.variables().any(|known| known == name(pair));
    let (known, others): (Vec<&str>, Vec<&str>) = query.split('&').partition(is_known);
    let less =
        if known.is_empty() { path.to_owned() } else { format!("{path}?{}", known.join("&")) };
    let mut names: Vec<String> = Vec::new();
    for name in others.iter().map(name) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let wider = Template::parse(&with_variables(template.as_str(), &names)).ok()?;
    (template.matches(&less).is_some() && wider.matches(url).is_some()).then_some(names)
}

/// A template with more variables in its query.
fn with_variables(template: &str, names: &[String]) -> String {
    let names = names.join(",");
    let end = ["{?", "{&"].iter().find_map(|query| {
        let start = template.find(query)?;
        Some(start + template[start..].find('}')?)
    });
    match end {
        Some(end) => format!("{},{names}{}", &template[..end], &template[end..]),
        None if template.contains('?') => format!("{template}{{&{names}}}"),
        None => format!("{template}{{?{names}}}"),
    }
}

/// Takes out what new rules refuse that read at least as many responses: these speak against what
/// the tables say, not against the rules.
fn few_of(failed: &mut Vec<Failed>, untried: &Untried) -> Vec<Failed> {
    let mut times: BTreeMap<String, usize> = BTreeMap::new();
    failed.iter().for_each(|failed| *times.entry(failed.rule.clone()).or_default() += 1);
    let are_few = |failed: &Failed| {
        let rule = untried.rules.iter().find(|rule| rule.name == failed.rule);
        rule.is_some_and(|rule| times[&rule.name] * 2 <= rule.samples.len())
    };
    let (few, others) = std::mem::take(failed).into_iter().partition(are_few);
    *failed = others;
    few
}

fn read_groups<'g>(read: &'g [(&'g Rule, Vec<usize>)]) -> impl Iterator<Item = Group<'g>> {
    read.iter().map(|(rule, samples)| Group { rule: &rule.name, samples, goes_on: true })
}

/// Whether a rule looks at the place of rows, around it or inside. What it keeps from there as json
/// may have been all that was known.
fn looks_at(schema: &Schema, rule: &Rule, rows: &BesideRows) -> bool {
    let is_json = |part: &ResponsePart| match part {
        ResponsePart::Value(table, field) => {
            schema.table(*table).field(*field).kind == FieldKind::Json
        }
        _ => false,
    };
    let are_rows = |part: &&ResponsePart| !is_json(part);
    let mut branch: &Branch<ResponsePart> = &rule.places;
    for name in &rows.way {
        if branch.here.iter().any(|part| are_rows(&part)) {
            return true;
        }
        let Some(next) = branch.inside.get(name) else { return false };
        branch = next;
    }
    let is_other_type = |part: &ResponsePart| match (part, &rows.typed) {
        (ResponsePart::Rows(_, Some(number)), Some((name, _))) => {
            *rule.types[number.0 as usize].name != **name
        }
        _ => false,
    };
    !branch.all().iter().filter(are_rows).all(is_other_type)
}
