//! The fields of the tables that are proposed: types, links, names.

use rustc_hash::FxHashSet;

use super::claims::{Declared, descend, places};
use super::classes::{MODEL, go_by_digits, is_surely_typed};
use super::entities::{Entities, Entity};
use super::evidence::{Counts, Members, ObjectsNo, View, World};
use super::identity::Identity;
use super::words::{Taken, is_content, is_embedding, is_time, names_a_thing, singular, snake};
use crate::ingest::TYPE_NAME;
use crate::schema::{FieldKind, IdType, Names, TableNo, Unknown};

/// At most this many members of an object without an id become fields of the row around it.
const INSIDE: usize = 12;
/// At most this many fields are proposed for a table.
const FIELDS: usize = 900;
/// A set of values refuses others later: it is proposed where this many rows have one of them,
const ENOUGH_ROWS: usize = 200;
/// there are this many rows for each value,
const ROWS_A_VALUE: usize = 40;
/// and each was met so often.
const ENOUGH_TIMES: usize = 10;
/// Values are listed in a comment up to this length.
const LISTED: usize = 60;

/// A field that is proposed.
#[derive(Debug, Clone)]
pub(super) struct Column {
    pub(super) name: String,
    /// Where it is in an object; empty if the request says it, or what is around the object.
    pub(super) way: Vec<String>,
    pub(super) kind: ColumnKind,
    pub(super) note: String,
    /// Whether every object has it, and it is never null.
    pub(super) always: bool,
    /// Whether the schema has it already.
    pub(super) declared: bool,
}

/// What a proposed field holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum ColumnKind {
    /// A type, and the only values that it takes.
    Plain(&'static str, Vec<String>),
    /// A time that is counted in that unit.
    Counted(&'static str),
    Link(usize),
    /// One of several tables, by the types that objects name.
    OneOf(Vec<(String, usize)>, bool),
    /// A to-many link to what that says, which may be inside of each entry.
    Many(Box<ColumnKind>, Option<Wrapper>),
}

/// What the entries of a to-many link are like.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Wrapper {
    /// The member that has the row.
    pub(super) record: String,
    /// The link's own fields: their names, the members, the types.
    pub(super) fields: Vec<(String, String, ColumnKind)>,
}

/// A table with its fields.
#[derive(Default)]
pub(super) struct ProposedTable {
    pub(super) names: Option<Names>,
    pub(super) columns: Vec<Column>,
    /// The names of the fields that are the id.
    pub(super) id: Vec<String>,
    /// What was not taken, and why.
    pub(super) left_out: Vec<String>,
    left_out_members: Vec<String>,
    taken: Taken,
    /// The ways of members that the schema has decided on.
    decided: Vec<Vec<String>>,
    /// Names of fields that the schema does not want.
    declined: FxHashSet<String>,
}

/// How the ids of a table with a single one are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum IdKind {
    Int,
    Text,
}

impl IdKind {
    pub(super) fn of(counts: &Counts) -> Self {
        let ids = counts.seen - counts.nulls;
        let are_whole = counts.ints > 0 && counts.ints + counts.digits == ids;
        if are_whole { IdKind::Int } else { IdKind::Text }
    }

    pub(super) fn name(self) -> &'static str {
        match self {
            IdKind::Int => "int",
            IdKind::Text => "text",
        }
    }

    /// Whether all values but nulls could be such ids.
    fn fits(self, counts: &Counts) -> bool {
        let found = match self {
            IdKind::Int => counts.ints + counts.digits,
            IdKind::Text => counts.ids(),
        };
        found == counts.scalars()
    }
}

/// What fields are decided by.
pub(super) struct Deciding<'w> {
    pub(super) world: &'w World,
    pub(super) entities: &'w Entities,
    /// The schema that it is added to, if there is one.
    declared: Option<&'w Declared>,
    /// The id of each table, if it is a single one.
    pub(super) ids: Vec<Option<IdKind>>,
}

impl<'w> Deciding<'w> {
    pub(super) fn new(
        world: &'w World,
        entities: &'w Entities,
        declared: Option<&'w Declared>,
    ) -> Self {
        let known = |entity: &Entity| Some(declared?.table(entity.declared?).id_type());
        let ids = entities.list.iter().map(|entity| match &entity.identity {
            _ if known(entity) == Some(IdType::Int) => Some(IdKind::Int),
            _ if known(entity) == Some(IdType::Text) => Some(IdKind::Text),
            Identity::Own(name) => {
                let members = View::members(world, &entity.objects);
                let member = members.iter().find(|member| member.name == name);
                let is_resource = world.objects(entity.objects[0]).resource;
                // Ids of JSON:API are texts, even those that look like numbers.
                member.map(|member| match IdKind::of(&member.view.counts()) {
                    IdKind::Int if is_resource => IdKind::Text,
                    kind => kind,
                })
            }
            Identity::Inside(outer, inner) => {
                let members = View::members(world, &entity.objects);
                let outer = members.iter().find(|member| member.name == outer);
                let inside = outer.map(|outer| View::members(world, &outer.view.objects()));
                let inside = inside.unwrap_or_default();
                let member = inside.iter().find(|member| member.name == inner);
                member.map(|member| IdKind::of(&member.view.counts()))
            }
            Identity::Key => {
                let maps = entity.objects.iter().filter_map(|objects| world.place(*objects).parent);
                let mut digits = maps.map(|map| go_by_digits(world, map));
                Some(if digits.all(|digits| digits) { IdKind::Int } else { IdKind::Text })
            }
            _ => None,
        });
        Self { world, entities, declared, ids: ids.collect() }
    }

    /// The fields of a table.
    pub(super) fn table(&self, number: usize) -> ProposedTable {
        let entity = &self.entities.list[number];
        let members = View::members(self.world, &entity.objects);
        let seen = entity.objects.iter().map(|objects| self.world.objects(*objects).seen).sum();
        let mut table = ProposedTable { names: style(&members), ..ProposedTable::default() };
        // What names the table is no field of the row.
        let names_table =
            |name: &str| name == TYPE_NAME || (name == MODEL && entity.type_name.is_some());
        let members = members.into_iter().filter(|member| !names_table(member.name));
        let members: Vec<Members<'w>> = members.collect();
        if let (Some(declared), Some(known)) = (self.declared, entity.declared) {
            table = self.known_fields(declared, known, &entity.objects);
            if !matches!(declared.table(known).unknown, Unknown::Kept(_)) {
                members.iter().for_each(|it| self.member(it, &[], seen, Some(number), &mut table));
            }
            return table;
        }
        let own = entity.identity.member();
        // The id keeps its own name.
        for member in members.iter().filter(|member| Some(member.name) == own) {
            let counts = member.view.counts();
            let kind = self.ids[number].unwrap_or(IdKind::of(&counts));
            let mut note = of_objects(member.present, seen);
            if counts.objects > 0 {
                let link = self.link(&member.view, member.name, Some(number), &mut note);
                let kind = link.unwrap_or(ColumnKind::Plain("json", Vec::new()));
                let name = table.add(&[member.name.to_owned()], kind, note, true);
                table.id.push(name);
                continue;
            }
            if counts.ints > 0 && counts.texts > 0 {
                note += &format!(", as a text in {}", counts.texts);
            }
            let kind = ColumnKind::Plain(kind.name(), Vec::new());
            let name = table.add(&[member.name.to_owned()], kind, note, true);
            table.id.push(name);
        }
        for member in members.iter().filter(|member| Some(member.name) != own) {
            if table.columns.len() >= FIELDS {
                table.leave_out(member.name, "too many fields with what follows it");
                break;
            }
            self.member(member, &[], seen, Some(number), &mut table);
        }
        if let Identity::Inside(outer, inner) = &entity.identity {
            let is_it = |column: &Column| column.way == [outer.clone(), inner.clone()];
            if let Some(place) = table.columns.iter().position(is_it) {
                let mut id = table.columns.remove(place);
                let kind = self.ids[number].unwrap_or(IdKind::Text);
                id.kind = ColumnKind::Plain(kind.name(), Vec::new());
                table.id.push(id.name.clone());
                table.columns.insert(0, id);
            }
        }
        if let (Identity::Key, Some(kind)) = (&entity.identity, self.ids[number]) {
            let kind = ColumnKind::Plain(kind.name(), Vec::new());
            let id = table.given("key", kind, entity.note.clone());
            table.id.push(id);
        }
        if let Identity::InParent(_, parent) = entity.identity {
            let is_it = |column: &&Column| column.kind == ColumnKind::Link(parent) && column.always;
            let known = table.columns.iter().find(is_it).map(|column| column.name.clone());
            let name = known.unwrap_or_else(|| {
                let name = &self.entities.list[parent].name;
                table.given(name, ColumnKind::Link(parent), "the row around it".to_owned())
            });
            table.id.insert(0, name);
        }
        table
    }

    /// A table of the schema, with the fields that it has.
    fn known_fields(
        &self,
        declared: &Declared,
        number: TableNo,
        objects: &[ObjectsNo],
    ) -> ProposedTable {
        let known = declared.table(number);
        let mut table = ProposedTable {
            names: declared.names.get(&number).copied(),
            declined: declared.declined.get(&number).cloned().unwrap_or_default(),
            id: known.id.iter().map(|id| known.field(*id).name.to_string()).collect(),
            ..ProposedTable::default()
        };
        let tombstone = known.tombstone.iter().map(|pointer| pointer.parts().to_vec());
        table.decided.extend(tombstone);
        for field in &known.fields {
            let ways = || places(field).map(|from| from.parts().to_vec());
            let is_there = |way: &Vec<String>| descend(self.world, objects, way).counts().seen > 0;
            let all = self.entities.list.iter();
            let to = match field.kind {
                FieldKind::Link(to) => all.into_iter().position(|it| it.declared == Some(to)),
                _ => None,
            };
            table.decided.extend(ways());
            table.columns.push(Column {
                name: table.taken.take(&field.name),
                way: ways().find(is_there).unwrap_or_default(),
                kind: to.map_or(ColumnKind::Plain("json", Vec::new()), ColumnKind::Link),
                note: String::new(),
                always: false,
                declared: true,
            });
        }
        table
    }

    /// Decides on a member: a field, several, or none.
    fn member(
        &self,
        member: &Members<'w>,
        way: &[String],
        seen: usize,
        table: Option<usize>,
        out: &mut ProposedTable,
    ) {
        let way: Vec<String> = way.iter().cloned().chain([member.name.to_owned()]).collect();
        let (view, counts) = (&member.view, member.view.counts());
        let mut note = of_objects(member.present, seen);
        if counts.nulls > 0 && counts.nulls < counts.seen {
            note += &format!(", null in {}", counts.nulls);
        }
        if view.holds_unkept() {
            out.leave_out(member.name, "it has half of a surrogate pair, which is no text");
            return;
        }
        let always = member.present == seen && counts.nulls == 0;
        let link =
            if view_is_plain(view) { None } else { self.link(view, member.name, table, &mut note) };
        if let Some(kind) = link {
            out.add(&way, kind, note, always);
            return;
        }
        if member.relationship {
            out.leave_out(member.name, "only ever an empty link");
            return;
        }
        let inside = self.inside(view, &counts, way.len());
        let inside = inside.or_else(|| self.content(member, seen, way.len()));
        if let Some(inside) = inside {
            for member in View::members(self.world, &inside) {
                self.member(&member, &way, seen, table, out);
            }
            return;
        }
        if let Some(unit) = counted(&counts).filter(|_| is_time(member.name)) {
            let note = format!("{note}: {unit} since 1970, kept in UTC");
            out.add(&way, ColumnKind::Counted(unit), note, always);
            return;
        }
        let rows = table.map_or(0, |table| self.entities.list[table].ids.len());
        let (kind, values, mut said) = scalar(view, &counts, rows);
        if self.holds_link(view) {
            said = "rows that no link points at, since not all here are alike".to_owned();
        }
        let note = if said.is_empty() { note } else { format!("{note}: {said}") };
        out.add(&way, ColumnKind::Plain(kind, values), note, always);
    }

    /// The objects that rows consist of: their members are the row's, many as they are.
    fn content(&self, member: &Members<'w>, seen: usize, depth: usize) -> Option<Vec<ObjectsNo>> {
        let (objects, counts) = (member.view.objects(), member.view.counts());
        let always = member.present == seen && counts.objects == counts.seen;
        let is_map = objects.iter().any(|it| self.entities.maps.contains(it));
        let is_it = is_content(member.name) && depth == 1 && always && !is_map;
        (is_it && !self.entities.any(&objects)).then_some(objects)
    }

    /// The objects whose members become fields of the row around them: those without an id, which
    /// are small and alike.
    fn inside(&self, view: &View<'w>, counts: &Counts, depth: usize) -> Option<Vec<ObjectsNo>> {
        let objects = view.objects();
        let is_map = |objects: &ObjectsNo| {
            self.entities.maps.contains(objects) || self.world.objects(*objects).keyed.is_some()
        };
        let all_objects = counts.objects > 0 && counts.objects + counts.nulls == counts.seen;
        if depth > 3 || !all_objects || self.entities.any(&objects) || objects.iter().any(is_map) {
            return None;
        }
        let seen: usize = objects.iter().map(|objects| self.world.objects(*objects).seen).sum();
        let members = View::members(self.world, &objects);
        let holds_link = |member: &Members<'w>| self.holds_link(&member.view);
        let has_link = members.iter().any(holds_link);
        let is_plain = |member: &Members<'w>| {
            let counts = member.view.counts();
            let inside = || self.inside(&member.view, &counts, depth + 1).is_some();
            counts.are_plain() || holds_link(member) || inside() || has_link
        };
        let alike = members.iter().all(|member| member.present * 2 >= seen && is_plain(member));
        (alike && !members.is_empty() && members.len() <= INSIDE).then_some(objects)
    }

    fn holds_link(&self, view: &View<'w>) -> bool {
        let objects: Vec<ObjectsNo> =
            view.objects().into_iter().chain(view.elements().objects()).collect();
        (!objects.is_empty() && self.entities.any(&objects)) || self.wrapped(view).is_some()
    }

    /// The member that holds a row in each object of an array, if the others are plain values; and
    /// these.
    fn wrapped(&self, view: &View<'w>) -> Option<(Members<'w>, Vec<Members<'w>>)> {
        let (counts, elements) = (view.counts(), view.elements());
        let (inside, objects) = (elements.counts(), elements.objects());
        let are_arrays = counts.arrays > 0 && counts.arrays + counts.nulls == counts.seen;
        let are_objects = inside.objects > 0 && inside.objects == inside.seen;
        if !are_arrays || !are_objects || self.entities.any(&objects) {
            return None;
        }
        let mut members = View::members(self.world, &objects);
        let is_row = |member: &Members<'w>| {
            let counts = member.view.counts();
            let is_there = member.present == inside.objects && counts.objects == counts.seen;
            is_there && self.entities.any(&member.view.objects())
        };
        let place = members.iter().position(is_row)?;
        let found = members.swap_remove(place);
        let plain = |other: &Members<'w>| other.view.counts().are_plain();
        members.retain(|other| other.name != TYPE_NAME);
        members.iter().all(plain).then_some((found, members))
    }

    /// What the entries of a link are like, of which that member has the row.
    fn wrapper(&self, row: &Members<'w>, beside: &[Members<'w>]) -> Wrapper {
        let mut taken = Taken::default();
        for own in ["owner", "position", "target", "target_type"] {
            taken.take(own);
        }
        // What no field holds is counted as without a place.
        let kept = beside.iter().filter(|member| !member.view.holds_unkept());
        let fields = kept.map(|member| {
            let counts = member.view.counts();
            let kind = match counted(&counts).filter(|_| is_time(member.name)) {
                Some(unit) => ColumnKind::Counted(unit),
                None => ColumnKind::Plain(scalar(&member.view, &counts, 0).0, Vec::new()),
            };
            let name = snake(member.name);
            let name = if taken.is_free(&name) { name } else { format!("entry_{name}") };
            (taken.take(&name), member.name.to_owned(), kind)
        });
        Wrapper { record: row.name.to_owned(), fields: fields.collect() }
    }

    /// What a member links to, if it is a link.
    fn link(
        &self,
        view: &View<'w>,
        name: &str,
        table: Option<usize>,
        note: &mut String,
    ) -> Option<ColumnKind> {
        let counts = view.counts();
        if counts.arrays == 0 {
            return self.target(view, &counts, name, table, note);
        }
        let elements = view.elements();
        let inside = elements.counts();
        if let Some((row, beside)) = self.wrapped(view) {
            let of = row.view.counts();
            let target = self.target(&row.view, &of, name, table, note)?;
            *note += &format!(", {} in all", inside.seen);
            let wrapper = self.wrapper(&row, &beside);
            return Some(ColumnKind::Many(Box::new(target), Some(wrapper)));
        }
        let is_plain = inside.nulls + inside.arrays + inside.deep == 0 && inside.seen > 0;
        // One alone may stand where others have an array.
        let all = View::new(self.world, view.shapes.iter().chain(&elements.shapes).copied());
        let alone = counts.objects + counts.scalars() > 0;
        if !is_plain || counts.deep > 0 || (alone && counts.scalars() > 0 && inside.scalars() == 0)
        {
            return None;
        }
        let of = if alone { without_arrays(&all) } else { elements.counts() };
        let target = self.target(&all, &of, name, table, note)?;
        *note += &format!(", {} in all", inside.seen);
        match &target {
            // An entry names its table only as an object.
            ColumnKind::OneOf(..) if of.scalars() > 0 => None,
            _ => Some(ColumnKind::Many(Box::new(target), None)),
        }
    }

    /// What values lead to, if all of them do.
    fn target(
        &self,
        view: &View<'w>,
        counts: &Counts,
        name: &str,
        table: Option<usize>,
        note: &mut String,
    ) -> Option<ColumnKind> {
        let objects = view.objects();
        if counts.deep + counts.odd > 0 {
            return None;
        }
        if objects.is_empty() {
            return self.named(view, counts, name, table, note);
        }
        if let Some(to) = self.entities.only(&objects) {
            let identity = &self.entities.list[to].identity;
            let can_be = !matches!(
                identity,
                Identity::InRequest(_) | Identity::Key | Identity::Declared(false)
            );
            let fits = counts.scalars() == 0 || self.ids[to].is_some_and(|id| id.fits(counts));
            return (can_be && fits).then_some(ColumnKind::Link(to));
        }
        let mut tables: Vec<(String, usize)> = Vec::new();
        for number in &objects {
            let to = self.entities.of[number.0 as usize]?;
            let type_name = self.world.objects(*number).type_name.as_deref()?;
            let single = self.entities.list[to].identity.is_own();
            if !single || tables.iter().any(|(known, other)| known == type_name && *other != to) {
                return None;
            }
            if !tables.iter().any(|(known, _)| known == type_name) {
                tables.push((type_name.to_owned(), to));
            }
        }
        let typename = objects.iter().all(|objects| {
            is_surely_typed(self.world, *objects) && !self.world.objects(*objects).resource
        });
        (counts.scalars() == 0).then_some(ColumnKind::OneOf(tables, typename))
    }

    /// The table that values are ids of, by what they are called and by what is known.
    fn named(
        &self,
        view: &View<'w>,
        counts: &Counts,
        name: &str,
        table: Option<usize>,
        note: &mut String,
    ) -> Option<ColumnKind> {
        if counts.scalars() == 0 || counts.bools + counts.floats + counts.broad > 0 {
            return None;
        }
        // A number that is called like many things counts them.
        let are_alone = view.shapes.iter().all(|shape| !self.world.at(*shape).place.many);
        if counts.ints == counts.scalars() && are_alone && singular(name) != snake(name) {
            return None;
        }
        let mut called = self.called(name);
        called.retain(|to| self.ids[*to].is_some_and(|id| id.fits(counts)));
        let values = view.ids();
        let known = |to: usize| values.intersection(&self.entities.list[to].ids).count();
        for to in &called {
            let known = known(*to);
            if known > 0 {
                let what = &self.entities.list[*to].name;
                *note += &format!(": {known} of {} values are ids of {what}", values.len());
                return Some(ColumnKind::Link(*to));
            }
        }
        if let Some(to) = called.first() {
            let what = &self.entities.list[*to].name;
            *note +=
                &format!(": named like a link to {what}, but none of its values is a known id");
            return None;
        }
        // Texts that are all ids of one table are hardly so by chance; numbers easily are.
        let is_text = |to: &usize| self.ids[*to] == Some(IdKind::Text) && counts.digits == 0;
        let all = (0..self.entities.list.len()).filter(is_text);
        // Rows of one table refer to each other in arrays.
        let may_be = |to: usize| Some(to) != table || !are_alone;
        let mut fitting = all.filter(|to| may_be(*to) && known(*to) == values.len());
        let (first, second) = (fitting.next(), fitting.next());
        let to = first.filter(|_| second.is_none() && values.len() > 1 && counts.ints == 0)?;
        *note +=
            &format!(": all {} values are ids of {}", values.len(), self.entities.list[to].name);
        Some(ColumnKind::Link(to))
    }

    /// The tables that a member is called after: `vessel`, `vessel_id`, `home_port`.
    fn called(&self, name: &str) -> Vec<usize> {
        let name = singular(name);
        let ends = ["_id", "_ids", "_code", "_key", "_uuid", "_slug", "_ref", "_no"];
        let cut = ends.iter().find_map(|end| name.strip_suffix(end)).map(singular);
        let bases: Vec<String> = cut.into_iter().chain([name.clone()]).collect();
        let is_called = |entity: &Entity| {
            let names =
                entity.roles.iter().chain([&entity.name]).filter(|name| names_a_thing(name));
            let mut names = names.map(String::as_str);
            names.any(|known| {
                bases.iter().any(|base| base == known || base.ends_with(&format!("_{known}")))
            })
        };
        let tables = self.entities.list.iter().enumerate();
        tables.filter(|(_, entity)| is_called(entity)).map(|(number, _)| number).collect()
    }
}

/// Counts of what stands in arrays, and of what stands alone in their place.
fn without_arrays(all: &View<'_>) -> Counts {
    let mut counts = all.counts();
    counts.seen -= counts.arrays + counts.nulls;
    (counts.arrays, counts.nulls) = (0, 0);
    counts
}

fn view_is_plain(view: &View<'_>) -> bool {
    view.shapes.iter().any(|shape| view.world.at(*shape).place.plain)
}

/// The unit in which numbers count time, if all may do so.
fn counted(counts: &Counts) -> Option<&'static str> {
    let there = counts.seen - counts.nulls;
    match there {
        0 => None,
        _ if counts.seconds == there => Some("seconds"),
        _ if counts.milliseconds == there => Some("milliseconds"),
        _ => None,
    }
}

/// The type of values that are no link, the only ones if they seem to be a set, and what there is
/// to say.
pub(super) fn scalar(
    view: &View<'_>,
    counts: &Counts,
    rows: usize,
) -> (&'static str, Vec<String>, String) {
    let there = counts.seen - counts.nulls;
    let plain = |kind| (kind, Vec::new(), String::new());
    let json = |why: String| ("json", Vec::new(), why);
    match there {
        0 => json("only ever null, so its type is unknown".to_owned()),
        _ if counts.bools == there => plain("bool"),
        _ if counts.ints == there => plain("int"),
        _ if counts.ints + counts.floats == there && counts.wide == 0 => plain("float"),
        _ if counts.ints + counts.floats + counts.broad == there => {
            json("numbers that a float would round".to_owned())
        }
        _ if counts.odd > 0 => json("a text with U+0000, which no text field holds".to_owned()),
        _ if counts.times == there => ("timestamp", Vec::new(), "times, kept in UTC".to_owned()),
        _ if counts.texts == there => text(view, counts, rows),
        _ if counts.arrays == there => match view.elements().counts().seen {
            0 => json("only ever an empty array".to_owned()),
            _ => json("arrays of values that are not rows".to_owned()),
        },
        _ if counts.objects == there => json("objects without an id".to_owned()),
        _ => json(format!("of several types, {}", kinds(counts))),
    }
}

fn text(view: &View<'_>, counts: &Counts, rows: usize) -> (&'static str, Vec<String>, String) {
    let words = view.words();
    let number = words.seen.len();
    let seen_often = |often: usize| words.seen.iter().all(|(_, count)| *count >= often);
    let few = !words.more && number > 1 && counts.digits == 0;
    if few && rows >= ENOUGH_ROWS && rows >= number * ROWS_A_VALUE && seen_often(ENOUGH_TIMES) {
        let note = format!("{number} values in {rows} rows");
        return ("text", words.seen.into_iter().map(|(word, _)| word.into()).collect(), note);
    }
    let listed = words.seen.iter().map(|(word, _)| &**word).collect::<Vec<_>>().join(", ");
    let said = match counts.times {
        0 if few && rows >= number * 2 && seen_often(2) && listed.len() <= LISTED => {
            format!("so far {listed}")
        }
        0 => String::new(),
        times => format!("a time in {times} only"),
    };
    ("text", Vec::new(), said)
}

/// What kinds of values there are: "int in 5, text in 3".
fn kinds(counts: &Counts) -> String {
    let all = [
        ("bool", counts.bools),
        ("int", counts.ints),
        ("float", counts.floats + counts.broad),
        ("text", counts.texts),
        ("object", counts.objects),
        ("array", counts.arrays),
        ("something deep", counts.deep),
    ];
    let there = all.iter().filter(|(_, count)| *count > 0);
    let there: Vec<String> = there.map(|(kind, count)| format!("{kind} in {count}")).collect();
    there.join(", ")
}

pub(super) fn of_objects(present: usize, seen: usize) -> String {
    match (present, seen) {
        (1, 1) => "1 object".to_owned(),
        _ if present == seen => format!("{seen} objects"),
        _ => format!("in {present} of {seen} objects"),
    }
}

/// The manner in which most members are named that are not named as fields are.
fn style(members: &[Members<'_>]) -> Option<Names> {
    let others = members.iter().filter(|member| snake(member.name) != member.name);
    let others: Vec<&str> = others.map(|member| member.name).collect();
    let known = [Names::Camel, Names::Pascal, Names::Kebab];
    let fitting = |names: &Names| {
        others.iter().filter(|member| names.write(&snake(member)) == ***member).count()
    };
    let best = known.into_iter().max_by_key(|names| (fitting(names), *names == Names::Camel))?;
    let plain = members.iter().filter(|member| snake(member.name) == member.name);
    let plain = plain.filter(|member| best.write(member.name) != member.name).count();
    (fitting(&best) > plain).then_some(best)
}

impl ProposedTable {
    fn leave_out(&mut self, member: &str, why: &str) {
        self.left_out.push(format!("{member:?}: {why}"));
        self.left_out_members.push(member.to_owned());
    }

    /// Adds a field for what stands in that place; gives its name.
    fn add(&mut self, way: &[String], kind: ColumnKind, note: String, always: bool) -> String {
        let parts: Vec<String> = way.iter().map(|part| snake(part)).collect();
        let (long, short) = (parts.join("_"), parts.get(1..).unwrap_or_default().join("_"));
        let says_nothing = way.len() > 1 && (is_content(&way[0]) || is_embedding(&way[0]));
        let is_content = says_nothing && self.taken.is_free(&short);
        // `edges` of `tickets` are the tickets.
        let most = parts[..parts.len().saturating_sub(1)].join("_");
        let is_many = matches!(kind, ColumnKind::Many(..)) && way.len() > 1;
        let is_generic = is_many && way.last().is_some_and(|last| !names_a_thing(last));
        let name = match () {
            _ if is_content => &short,
            _ if is_generic && self.taken.is_free(&most) => &most,
            _ => &long,
        };
        let is_decided =
            |known: &Vec<String>| known.starts_with(way) || way.starts_with(known.as_slice());
        if self.decided.iter().any(is_decided) || self.declined.contains(name) {
            return name.clone();
        }
        let name = self.taken.take(name);
        self.columns.push(Column {
            name: name.clone(),
            way: way.to_vec(),
            kind,
            note,
            always,
            declared: false,
        });
        name
    }

    /// Adds a field that no object has; gives its name, under which no member may be taken for it.
    pub(super) fn given(&mut self, name: &str, kind: ColumnKind, note: String) -> String {
        let is_member = |name: &str| {
            let written = self.names.map_or_else(|| name.to_owned(), |names| names.write(name));
            let member = |column: &Column| column.way.first() == Some(&written);
            self.columns.iter().any(member) || self.left_out_members.contains(&written)
        };
        let tried = ["", "_id", "_row"].iter().map(|end| format!("{name}{end}"));
        let mut more = (2..).map(|number| format!("{name}_{number}"));
        let free = |name: &String| self.taken.is_free(name) && !is_member(name);
        let name = tried.into_iter().find(free).or_else(|| more.find(free));
        let name = self.taken.take(&name.unwrap_or_default());
        let column = Column {
            name: name.clone(),
            way: Vec::new(),
            kind,
            note,
            always: false,
            declared: false,
        };
        self.columns.insert(self.id.len().min(self.columns.len()), column);
        name
    }

    /// A name for the field that says at which table a link points, if the usual one is taken.
    pub(super) fn type_field(&self, column: &str) -> Option<String> {
        let usual = format!("{column}_type");
        let mut others = ["_table", "_kind", "_of"].iter().map(|end| format!("{column}{end}"));
        if self.taken.is_free(&usual) { None } else { others.find(|name| self.taken.is_free(name)) }
    }
}
