//! The rules that are proposed: where in a response its records are, and what stands beside them.

use std::collections::BTreeSet;

use super::classes::{go_by_digits, type_member, values_of};
use super::columns::{Column, ColumnKind, Deciding, IdKind, ProposedTable, of_objects, scalar};
use super::entities::Entities;
use super::evidence::{Counts, ObjectsNo, ShapeNo, View, hash};
use super::identity::{FEW_AMISS, Identity};
use super::scan::Written;
use super::text::{counted, pointer};
use super::urls::{
    Part, Path, Segment, Template, Variable, is_version, kind_of_part, last_word, paging,
};
use super::words::{Taken, is_next, is_of_place, names_a_thing, singular, snake, usable};
use crate::ingest::TYPE_NAME;

/// At most this many values beside the records are fields of a one-row table.
const VALUES: usize = 100;
/// Objects around the records are looked into so deep.
const DEEPEST: usize = 6;

/// A rule that is proposed.
#[derive(Default)]
pub(super) struct ProposedRule {
    pub(super) name: String,
    pub(super) method: Option<String>,
    pub(super) url: Option<String>,
    /// How many URLs that was seen from.
    pub(super) urls: String,
    pub(super) written: Option<Written>,
    pub(super) records: Option<FoundRows>,
    /// Rows of other tables, and where they are.
    pub(super) rows: Vec<BesideRows>,
    /// Values, for a one-row table of that name.
    pub(super) page: Option<(String, Vec<Column>)>,
    /// Fields that the request says, with the variable.
    pub(super) given: Vec<(String, String)>,
    /// A list's name, the variable of its parts, and whether that is a text.
    pub(super) list: Option<(String, String, bool)>,
    /// How a page says what follows it, and what shows that.
    pub(super) next: Option<(String, &'static str)>,
    pub(super) deletes: bool,
    pub(super) samples: Vec<usize>,
    /// What its responses are called, if they have several names.
    pub(super) called: Vec<String>,
    /// Why nothing is read into rows.
    pub(super) refused: Option<String>,
}

impl ProposedRule {
    /// The rule that keeps whole responses as json, in a one-row table of that name, because as
    /// rows they do not fit.
    pub(super) fn kept_whole(self, why: String, table: String) -> Self {
        let answer = Column {
            name: "answer".to_owned(),
            way: Vec::new(),
            kind: ColumnKind::Plain("json", Vec::new()),
            note: "the whole response".to_owned(),
            always: false,
            declared: false,
        };
        Self {
            page: Some((table, vec![answer])),
            refused: Some(why),
            written: self.written.filter(|written| *written == Written::Ndjson),
            name: self.name,
            method: self.method,
            url: self.url,
            urls: self.urls,
            samples: self.samples,
            called: self.called,
            ..Self::default()
        }
    }
}

/// Rows beside the records.
#[derive(Clone)]
pub(super) struct BesideRows {
    pub(super) table: usize,
    pub(super) way: Vec<String>,
    /// The type that these name, and the member that does, where others are of other tables.
    pub(super) typed: Option<(String, &'static str)>,
    /// How many others stand among them that are no objects.
    pub(super) others: usize,
    pub(super) note: String,
}

/// Rows somewhere in a response.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FoundRows {
    pub(super) table: usize,
    /// The type that these name, and the member that does, where others are of other tables.
    pub(super) typed: Option<(String, &'static str)>,
    pub(super) way: Vec<String>,
    /// Where in each element the row is.
    pub(super) record: Vec<String>,
    pub(super) keyed: bool,
    pub(super) many: bool,
    /// Whether every response has them.
    pub(super) always: bool,
    pub(super) objects: usize,
    /// How many others stand among them that are no objects.
    pub(super) others: usize,
}

/// What a response holds.
#[derive(Default)]
pub(super) struct Answer {
    pub(super) found: Vec<FoundRows>,
    pub(super) values: Vec<Column>,
    names: Taken,
    written: Option<Written>,
}

impl Answer {
    fn value(
        &mut self,
        way: &[String],
        view: &View<'_>,
        present: (usize, usize),
        kind: Option<&str>,
    ) {
        if view.holds_unkept() {
            return;
        }
        let counts = view.counts();
        let (kind, said) = match kind {
            Some(why) => ("json", why.to_owned()),
            None => {
                let (kind, _, said) = scalar(view, &counts, 0);
                (kind, said)
            }
        };
        let what = if self.written == Some(Written::Ndjson) { "line" } else { "response" };
        let mut note = of_objects(present.0, present.1).replace("object", what);
        if counts.nulls > 0 {
            note += &format!(", null in {}", counts.nulls);
        }
        let different = view.ids().len();
        if !said.is_empty() {
            note += &format!(": {said}");
        } else if different > 1 {
            note += &format!(": the last of {different} different ones stays");
        }
        let parts: Vec<String> = way.iter().map(|part| snake(part)).collect();
        let name = if way.is_empty() { "answer".to_owned() } else { parts.join("_") };
        let name = self.names.take(name.strip_prefix("data_").unwrap_or(&name));
        let kind = ColumnKind::Plain(kind, Vec::new());
        let (way, declared) = (way.to_vec(), false);
        self.values.push(Column { name, way, kind, note, always: false, declared });
    }
}

impl<'w> Deciding<'w> {
    /// What responses hold whose whole stands there.
    pub(super) fn answer(&self, roots: &[ShapeNo], written: Written) -> Answer {
        let mut answer = Answer { written: Some(written), ..Answer::default() };
        let view = View::new(self.world, roots.iter().copied());
        if written == Written::JsonApi {
            self.document(&view, &mut answer);
        } else {
            let seen = view.counts().seen;
            self.walk(&view, &[], (seen, seen), written == Written::GraphQl, &mut answer);
        }
        if answer.values.len() > VALUES {
            answer.values.clear();
            let seen = view.counts().seen;
            answer.value(&[], &view, (seen, seen), Some("too many values to name"));
        }
        answer
    }

    /// A JSON:API document: its data are the records.
    fn document(&self, view: &View<'w>, answer: &mut Answer) {
        let members = View::members(self.world, &view.objects());
        for member in members {
            let view = &member.view;
            if member.name == "meta" {
                let seen = view.counts().seen;
                self.walk(view, &["meta".to_owned()], (seen, seen), false, answer);
            }
            if member.name != "data" {
                continue;
            }
            let elements = view.elements();
            let objects = [view.objects(), elements.objects()].concat();
            let seen = |objects: &ObjectsNo| self.world.objects(*objects).seen;
            let of = |objects: &ObjectsNo| self.entities.of[objects.0 as usize];
            let main = objects.iter().filter(|it| of(it).is_some()).max_by_key(|it| seen(it));
            if let Some(table) = main.and_then(of) {
                let one_kind = self.entities.only(&objects).is_some();
                answer.found.push(FoundRows {
                    table,
                    typed: None,
                    way: vec!["data".to_owned()],
                    record: Vec::new(),
                    keyed: false,
                    many: one_kind && view.counts().arrays > 0,
                    always: true,
                    objects: objects.iter().map(seen).sum(),
                    others: 0,
                });
            }
        }
    }

    fn walk(
        &self,
        view: &View<'w>,
        way: &[String],
        present: (usize, usize),
        graphql: bool,
        answer: &mut Answer,
    ) {
        let counts = view.counts();
        let there = counts.seen - counts.nulls;
        let objects = view.objects();
        let may_be = there > 0 && counts.objects + counts.arrays == there && self.holds_rows(view);
        if let Some(found) = may_be.then(|| self.found(view, &counts, way, present)).flatten() {
            answer.found.push(found);
            return;
        }
        if let Some(found) = may_be.then(|| self.found_by_type(view, &counts, way)).flatten() {
            answer.found.extend(found);
            return;
        }
        let is_map = objects.iter().any(|objects| {
            self.entities.maps.contains(objects) || self.world.objects(*objects).keyed.is_some()
        });
        if counts.objects < there || there == 0 || is_map || way.len() >= DEEPEST {
            let rows = self.holds_rows(view).then_some("rows of several tables, or not all alike");
            return answer.value(way, view, present, rows);
        }
        if self.entities.any(&objects) {
            let why = "rows of several tables, or not all alike";
            return answer.value(way, view, present, Some(why));
        }
        let seen: usize = objects.iter().map(|objects| self.world.objects(*objects).seen).sum();
        let (known, all) = present;
        for member in View::members(self.world, &objects) {
            if graphql && way.is_empty() && member.name != "data" {
                continue;
            }
            if member.name == TYPE_NAME {
                continue;
            }
            let inside: Vec<String> = way.iter().cloned().chain([member.name.to_owned()]).collect();
            // Missing here, or with what is around it.
            let present = if known == all && counts.nulls == 0 && member.present == seen {
                (all, all)
            } else {
                // A member may be there twice.
                (member.present, all.max(member.present + 1))
            };
            self.walk(&member.view, &inside, present, graphql, answer);
        }
    }

    /// Whether rows stand just here.
    fn holds_rows(&self, view: &View<'w>) -> bool {
        let inside = [view.objects(), view.elements().objects()].concat();
        let in_maps = inside.iter().filter(|objects| self.entities.maps.contains(objects));
        let in_maps =
            in_maps.flat_map(|map| View::new(self.world, values_of(self.world, *map)).objects());
        let deeper = inside.iter().flat_map(|it| self.world.objects(*it).members.iter());
        let deeper = deeper.flat_map(|member| View::new(self.world, [member.shape]).objects());
        self.entities.any(&inside)
            || self.entities.any(&in_maps.collect::<Vec<_>>())
            || (view.counts().arrays > 0 && self.entities.any(&deeper.collect::<Vec<_>>()))
    }

    /// Rows of several tables in one place, each of which names its type.
    fn found_by_type(
        &self,
        view: &View<'w>,
        counts: &Counts,
        way: &[String],
    ) -> Option<Vec<FoundRows>> {
        let inside = view.elements();
        let all = [counts, &inside.counts()].map(|counts| counts.seen - counts.nulls);
        let objects = [view.objects(), inside.objects()].concat();
        let (alone, many) = (counts.objects, inside.counts().objects);
        // A null among them is no row.
        let has_nulls = inside.counts().nulls > 0;
        if alone + counts.arrays != all[0] || many != all[1] || objects.is_empty() || has_nulls {
            return None;
        }
        let found = objects.into_iter().map(|number| {
            let objects = self.world.objects(number);
            let table = self.entities.of[number.0 as usize]?;
            let is_own = self.entities.list[table].identity.is_own();
            let typed = objects.type_name.as_deref()?.to_owned();
            let member = type_member(objects);
            is_own.then(|| FoundRows {
                table,
                typed: Some((typed, member)),
                way: way.to_vec(),
                record: Vec::new(),
                keyed: false,
                many: many > 0,
                always: false,
                objects: objects.seen,
                others: 0,
            })
        });
        let mut rows: Vec<FoundRows> = Vec::new();
        for found in found.collect::<Option<Vec<_>>>()? {
            match rows.iter_mut().find(|known| known.typed == found.typed) {
                Some(known) if known.table != found.table => return None,
                Some(known) => known.objects += found.objects,
                None => rows.push(found),
            }
        }
        Some(rows)
    }

    fn found(
        &self,
        view: &View<'w>,
        counts: &Counts,
        way: &[String],
        present: (usize, usize),
    ) -> Option<FoundRows> {
        let elements = view.elements();
        let inside = elements.counts();
        let objects = [view.objects(), elements.objects()].concat();
        let seen = |objects: &[ObjectsNo]| {
            objects.iter().map(|objects| self.world.objects(*objects).seen).sum::<usize>()
        };
        let always = present.0 == present.1;
        let made = |table: usize, record: Vec<String>, keyed: bool, many: bool, objects: usize| {
            let (way, typed) = (way.to_vec(), None);
            let others = inside.seen - inside.objects;
            FoundRows { table, typed, way, record, keyed, many, always, objects, others }
        };
        if (inside.seen - inside.objects) * FEW_AMISS > inside.seen {
            return None;
        }
        if let Some(table) = self.entities.only(&objects) {
            let is_inside = matches!(self.entities.list[table].identity, Identity::InParent(..));
            let is_key = self.entities.list[table].identity == Identity::Key;
            return (!is_inside && !is_key)
                .then(|| made(table, Vec::new(), false, counts.arrays > 0, seen(&objects)));
        }
        if counts.arrays == 0 && objects.iter().all(|objects| self.entities.maps.contains(objects))
        {
            let digits = objects.iter().all(|map| go_by_digits(self.world, *map));
            let values = objects.iter().flat_map(|map| values_of(self.world, *map));
            let values = View::new(self.world, values);
            let table = self.entities.only(&values.objects())?;
            let is_plain = values.counts().objects == values.counts().seen;
            let fits = digits || self.ids[table] == Some(IdKind::Text);
            return (is_plain && fits && self.ids[table].is_some())
                .then(|| made(table, Vec::new(), true, true, seen(&values.objects())));
        }
        // Each element has its row one level further inside.
        let none = objects.iter().all(|objects| self.entities.of[objects.0 as usize].is_none());
        if counts.objects > 0 || !none {
            return None;
        }
        let all = seen(&objects);
        let members = View::members(self.world, &objects);
        let mut rows = members.iter().filter(|member| self.entities.any(&member.view.objects()));
        let (row, other) = (rows.next()?, rows.next());
        let there = row.view.counts();
        let table = self.entities.only(&row.view.objects())?;
        let lost = all - there.objects.min(all);
        let fits = lost * FEW_AMISS <= all && other.is_none();
        let single = self.entities.list[table].identity.is_own();
        // What else is there must not be worth more than where in a list something stands.
        let mut others = members.iter().filter(|member| member.name != row.name);
        let little = others.all(|member| is_of_place(member.name));
        (fits && single && little).then(|| {
            let found = made(table, vec![row.name.to_owned()], false, true, all);
            FoundRows { others: found.others + lost, ..found }
        })
    }

    /// Makes the rule for a path; its tables may get fields that only the request says.
    pub(super) fn rule(
        &self,
        path: &Path,
        written: Written,
        absolute: bool,
        tables: &mut [ProposedTable],
        names: &mut Taken,
        table_names: &mut Taken,
    ) -> Option<ProposedRule> {
        if path.target.method == "DELETE" {
            return self.delete(path, absolute, tables, names);
        }
        let mut answer = self.answer(&path.roots, written);
        let main = main_of(&answer.found, self.entities, path, written).cloned();
        let last = main
            .as_ref()
            .filter(|main| !main.many)
            .filter(|main| main.way.len() < 2 && self.ends_with_id(path, main.table))
            .and_then(|main| tables[main.table].id.last().cloned());
        let template =
            path.target.named.is_none().then(|| Template::of(path, absolute, last.as_deref()));
        let many = main.as_ref().is_none_or(|main| main.many);
        let name = name(path, many, names);
        let mut rule = ProposedRule {
            method: Some(path.target.method.clone()).filter(|method| method != "GET"),
            url: template.as_ref().map(|template| template.text.clone()),
            urls: urls_text(path),
            written: Some(written),
            samples: path.samples.clone(),
            called: path.called.clone(),
            name,
            ..ProposedRule::default()
        };
        for found in std::mem::take(&mut answer.found) {
            if Some(&found) == main.as_ref() {
                continue;
            }
            debug_assert!(found.typed.is_none() || !found.always, "they stand beside others");
            match self.beside(found) {
                Ok(rows) => rule.rows.push(rows),
                Err(found) => {
                    let (view, why) =
                        (self.at(&path.roots, &found.way), "rows that cannot be beside others");
                    answer.value(&found.way, &view, (1, 1), Some(why));
                }
            }
        }
        rule.records = main;
        if let (Some(main), Some(template)) = (rule.records.clone(), &template) {
            self.say(path, template, &main, &mut tables[main.table], &mut rule);
            self.list(path, template, &main, table_names, &mut rule);
            rule.next =
                rule.list.as_ref().and_then(|(_, part, is_text)| next(part, *is_text, &answer));
        }
        if let Some(main) = &rule.records
            && !self.is_known(main, &tables[main.table], &rule.given)
        {
            // Without its request the row is unknown.
            let view = self.at(&path.roots, &main.way);
            answer.value(&main.way.clone(), &view, (1, 1), Some("its id is unknown"));
            rule.records = None;
            (rule.given, rule.list, rule.next) = (Vec::new(), None, None);
        }
        let has_rows = rule.records.is_some() || !rule.rows.is_empty();
        if !has_rows && answer.values.is_empty() {
            let view = self.at(&path.roots, &[]);
            let seen = view.counts().seen;
            answer.value(&[], &view, (seen, seen), Some("it has no value and no row"));
        }
        if !answer.values.is_empty() {
            let name =
                if has_rows { format!("{}_page", snake(&rule.name)) } else { snake(&rule.name) };
            rule.page = Some((table_names.take(&usable(&name)), answer.values));
        }
        (has_rows || rule.page.is_some()).then_some(rule)
    }

    /// Rows as they stand beside the records, if they can.
    pub(super) fn beside(&self, found: FoundRows) -> Result<BesideRows, FoundRows> {
        let is_own = self.entities.list[found.table].identity.is_own();
        if !is_own || !found.record.is_empty() || found.keyed {
            return Err(found);
        }
        let note = of_objects(found.objects, found.objects);
        let FoundRows { table, way, typed, others, .. } = found;
        Ok(BesideRows { table, way, typed, others, note })
    }

    /// The values at a place of responses.
    fn at(&self, roots: &[ShapeNo], way: &[String]) -> View<'w> {
        let mut view = View::new(self.world, roots.iter().copied());
        for name in way {
            let members = View::members(self.world, &view.objects());
            let next = members.into_iter().find(|member| member.name == name);
            view = next.map_or(View::new(self.world, []), |member| member.view);
        }
        view
    }

    /// Whether records say together with their request which rows they are.
    fn is_known(
        &self,
        main: &FoundRows,
        table: &ProposedTable,
        given: &[(String, String)],
    ) -> bool {
        let says = |id: &String| {
            let in_record = |column: &Column| column.name == *id && !column.way.is_empty();
            let is_given = || given.iter().any(|(field, _)| field == id);
            is_given() || table.columns.iter().any(in_record)
        };
        let declared = self.entities.list[main.table].declared.is_some();
        !table.id.is_empty() && (!declared || table.id.iter().all(says))
    }

    /// The parts of a declared id that the records do not have: they are called like variables, or
    /// link to what these name.
    fn say_declared(
        &self,
        path: &Path,
        template: &Template,
        table: &ProposedTable,
        rule: &mut ProposedRule,
    ) {
        let missing = |column: &&Column| table.id.contains(&column.name) && column.way.is_empty();
        for column in table.columns.iter().filter(missing) {
            let is_it = |variable: &&Variable| {
                let linked = matches!(column.kind, ColumnKind::Link(_))
                    && self.linked(path, variable).as_ref() == Some(&column.kind);
                variable.name == column.name || linked
            };
            let variable = template.variables.iter().find(is_it);
            let variable = variable.map(|variable| (column.name.clone(), variable.name.clone()));
            rule.given.extend(variable);
        }
    }

    /// The fields that the request says: parts of the id, and the row that the records belong to.
    fn say(
        &self,
        path: &Path,
        template: &Template,
        main: &FoundRows,
        table: &mut ProposedTable,
        rule: &mut ProposedRule,
    ) {
        let entity = &self.entities.list[main.table];
        if entity.declared.is_some() {
            self.say_declared(path, template, table, rule);
        }
        if matches!(entity.identity, Identity::InRequest(_)) {
            let own = std::mem::take(&mut table.id);
            let single = own.is_empty() && template.variables.len() == 1;
            for variable in &template.variables {
                let link = self.linked(path, variable).filter(|_| !single);
                let kind = link.unwrap_or_else(|| plain(path.values_at(variable.segment)));
                let note = urls_text(path);
                let name = table.given(&variable.name, kind, note);
                table.id.push(name.clone());
                rule.given.push((name, variable.name.clone()));
            }
            if template.variables.is_empty()
                && let [query] = &*template.query
            {
                let values = path.query.first().map_or(&[][..], |(_, values)| values);
                let name = table.given(query, plain(values), "from the query".to_owned());
                table.id.push(name.clone());
                rule.given.push((name, query.clone()));
            }
            if table.id.is_empty() {
                return;
            }
            table.id.extend(own);
            return;
        }
        let ends = matches!(path.target.segments.last(), Some(Segment::Variable));
        let around = template.variables.last().filter(|_| !ends && main.many);
        let Some(variable) = around else { return };
        let Some(ColumnKind::Link(to)) = self.linked(path, variable) else { return };
        if to == main.table {
            return;
        }
        let known = table.columns.iter().find(|column| column.kind == ColumnKind::Link(to));
        let name = match known {
            // The record says it itself, or the request does so in another rule.
            Some(column) if !column.way.is_empty() => return,
            Some(column) if rule.given.iter().any(|(field, _)| *field == column.name) => return,
            Some(column) => column.name.clone(),
            None => {
                let name = &self.entities.list[to].name;
                let note = urls_text(path);
                table.given(name, ColumnKind::Link(to), note)
            }
        };
        rule.given.push((name, variable.name.clone()));
    }

    /// Whether the last variable of a path is the id of a row of that table.
    fn ends_with_id(&self, path: &Path, table: usize) -> bool {
        let ids = &self.entities.list[table].ids;
        let values = path.values.last().map_or(&[][..], Vec::as_slice);
        values.iter().filter(|value| ids.contains(&(hash(value) | 1))).count() * 2 >= values.len()
    }

    /// The table of which a variable holds ids.
    fn linked(&self, path: &Path, variable: &Variable) -> Option<ColumnKind> {
        let of = variable.of.as_ref()?;
        let values = path.values_at(variable.segment);
        let mut tables = self.entities.list.iter().enumerate();
        let to = tables.find(|(number, entity)| {
            let called = entity.roles.contains(of) || entity.name == *of;
            let fits = match self.ids[*number] {
                Some(IdKind::Int) => values.iter().all(|text| crate::schema::whole(text).is_some()),
                Some(IdKind::Text) => true,
                None => false,
            };
            // A number in a URL may be another one than the id.
            let known = values.iter().filter(|value| entity.ids.contains(&(hash(value) | 1)));
            called && fits && known.count() * 2 >= values.len()
        });
        to.map(|(number, _)| ColumnKind::Link(number))
    }

    fn list(
        &self,
        path: &Path,
        template: &Template,
        main: &FoundRows,
        taken: &mut Taken,
        rule: &mut ProposedRule,
    ) {
        let Some(part) = paging(&template.query).filter(|_| main.many) else { return };
        let mut names = Taken::default();
        let all = template.variables.iter().map(|variable| &variable.name).chain(&template.query);
        let clash = all.into_iter().any(|name| names.take(name) != *name)
            || ["part", "position", "target"].iter().any(|name| !names.is_free(name));
        if clash || rule.method.is_some() {
            return;
        }
        let values = path.query.iter().filter(|(name, _)| snake(name) == snake(part));
        let is_text =
            values.flat_map(|(_, values)| values).any(|v| crate::schema::whole(v).is_none());
        let name = taken.take(&usable(&format!("{}_list", snake(&rule.name))));
        rule.list = Some((name, part.to_owned(), is_text));
    }

    /// A request that deletes the row that its URL ends with.
    fn delete(
        &self,
        path: &Path,
        absolute: bool,
        tables: &[ProposedTable],
        names: &mut Taken,
    ) -> Option<ProposedRule> {
        let segment = path.target.segments.len() - 1;
        if path.target.segments[segment] != Segment::Variable {
            return None;
        }
        let template = Template::of(path, absolute, None);
        let Some(ColumnKind::Link(table)) = self.linked(path, template.variables.last()?) else {
            return None;
        };
        let [id] = &*tables[table].id else { return None };
        let template = Template::of(path, absolute, Some(id));
        let variable = template.variables.last()?.name.clone();
        let name = names.take(&format!("delete_{}", self.entities.list[table].name));
        let found = FoundRows {
            table,
            typed: None,
            way: Vec::new(),
            record: Vec::new(),
            keyed: false,
            many: false,
            always: true,
            objects: 0,
            others: 0,
        };
        Some(ProposedRule {
            name,
            method: Some("DELETE".to_owned()),
            url: Some(template.text),
            urls: urls_text(path),
            records: Some(found),
            given: vec![(id.clone(), variable)],
            deletes: true,
            samples: path.samples.clone(),
            ..ProposedRule::default()
        })
    }

    /// Whether responses are of one kind though they have names of their own: they are about the same
    /// rows, and have nearly the same members.
    pub(super) fn is_one_kind(&self, a: &Path, b: &Path) -> bool {
        let names = |path: &Path| {
            let view = View::new(self.world, path.roots.iter().copied());
            let objects = [view.objects(), view.elements().objects()].concat();
            let members = View::members(self.world, &objects).into_iter();
            members.map(|member| member.name).collect::<BTreeSet<_>>()
        };
        let (here, there) = (names(a), names(b));
        let (both, either) = (here.intersection(&there).count(), here.union(&there).count());
        if both * 5 < either * 4 {
            return false;
        }
        // One thing in each may be of a table by itself so far.
        let view = |path: &Path| View::new(self.world, path.roots.iter().copied());
        let is_thing = |view: &View<'_>| view.counts().objects == view.counts().seen;
        let (one, other) = (view(a), view(b));
        let are_things = is_thing(&one) && is_thing(&other);
        if are_things { one.is_like(&other) } else { self.alike(a, b) }
    }

    /// Whether responses of two paths hold the same: the same rows in the same places, or objects
    /// with the same members. A list that is empty is like any list.
    pub(super) fn alike(&self, a: &Path, b: &Path) -> bool {
        let found = |path: &Path| {
            let answer = self.answer(&path.roots, Written::Json);
            answer.found.into_iter().map(|found| (found.table, found.way)).collect::<Vec<_>>()
        };
        let (here, there) = (found(a), found(b));
        let contradict = !here.is_empty() && !there.is_empty();
        if contradict && !here.iter().any(|found| there.contains(found)) {
            return false;
        }
        let view = |path: &Path| View::new(self.world, path.roots.iter().copied());
        view(a).is_like(&view(b))
    }
}

/// The rows that a response is about: what all responses are, what the request is called after, or
/// the one long array. Others are companions, which may lack.
fn main_of<'f>(
    found: &'f [FoundRows],
    entities: &Entities,
    path: &Path,
    written: Written,
) -> Option<&'f FoundRows> {
    let different = |found: &FoundRows| entities.list[found.table].ids.len();
    if written == Written::JsonApi {
        return found.iter().max_by_key(|found| found.objects);
    }
    let called = match &path.target.named {
        Some(named) => Some(singular(named)),
        None => last_word(&path.target).map(|(_, word)| singular(word)),
    };
    let is_called = |found: &&FoundRows| {
        let last = found.way.last().map(|name| singular(name));
        let words = called.as_deref().unwrap_or_default();
        last.is_some_and(|last| words == last || words.starts_with(&format!("{last}_")))
    };
    let always = || found.iter().filter(|found| found.always);
    let all: usize = found.iter().map(|found| found.objects).sum();
    let whole = always().find(|found| found.way.is_empty());
    let named = || always().filter(is_called).min_by_key(|found| found.way.len());
    // Of what is not asked for by a URL, an array may be as much a companion as anything else.
    let share = if path.target.named.is_some() { all } else { 0 };
    let many = || {
        let arrays = always().filter(|found| found.many && found.objects * 3 >= share * 2);
        // What is the same in every response is no news. Of equally many, the first.
        arrays.rev().max_by_key(|found| different(found).min(found.objects))
    };
    let alone = || always().next().filter(|_| found.len() == 1);
    whole.or_else(named).or_else(many).or_else(alone)
}

/// The type of what a request says.
fn plain(values: &[String]) -> ColumnKind {
    let whole =
        !values.is_empty() && values.iter().all(|text| crate::schema::whole(text).is_some());
    ColumnKind::Plain(if whole { "int" } else { "text" }, Vec::new())
}

/// How a page says what follows it: by a member, or its number is counted on.
fn next(part: &str, is_text: bool, answer: &Answer) -> Option<(String, &'static str)> {
    let says_next = |value: &&Column| {
        let is_plain = matches!(value.kind, ColumnKind::Plain("text" | "int" | "json", _));
        is_plain && value.way.last().is_some_and(|name| is_next(name))
    };
    if let Some(value) = answer.values.iter().find(says_next) {
        // By it a remote numbers the parts in the order of their coming.
        return Some((pointer(&value.way), "for a remote: it says what follows"));
    }
    match kind_of_part(part) {
        Some(Part::Page) if !is_text => Some(("page".to_owned(), "the number is counted on")),
        Some(Part::Offset) if !is_text => Some(("offset".to_owned(), "records are counted on")),
        _ => None,
    }
}

/// What a template was seen from.
fn urls_text(path: &Path) -> String {
    format!("from {}", counted(path.samples.len(), "request"))
}

/// A name for a rule: what its path says last.
fn name(path: &Path, many: bool, names: &mut Taken) -> String {
    // A rule that the user named keeps that name.
    if let Some(name) = &path.target.named {
        return name.clone();
    }
    let method = match path.target.method.as_str() {
        "GET" => String::new(),
        other => format!("{}_", other.to_lowercase()),
    };
    let Some((segment, word)) = last_word(&path.target) else {
        return names.take(&format!("{method}response"));
    };
    let ends = segment + 1 < path.target.segments.len();
    let word = if ends && !many { singular(word) } else { snake(word) };
    let around = segment.checked_sub(1).map(|before| &path.target.segments[before]);
    let word = match around {
        Some(Segment::Fixed(before)) if names_a_thing(before) && !is_version(before) => {
            format!("{}_{word}", snake(before))
        }
        _ => word,
    };
    let name = format!("{method}{word}");
    if names.is_free(&name) {
        return names.take(&name);
    }
    let before = path.target.segments[..segment].iter().rev().find_map(|part| match part {
        Segment::Fixed(word) if !is_version(word) && !word.is_empty() => Some(singular(word)),
        _ => None,
    });
    names.take(&before.map_or(name, |before| format!("{method}{before}_{word}")))
}
