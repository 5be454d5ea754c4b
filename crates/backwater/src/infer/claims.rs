//! What a schema says already of the objects in samples: which of them are rows of which tables.

use std::collections::HashMap;

use rustc_hash::{FxHashMap, FxHashSet};

use super::classes::{Class, Kinds, numbers, type_member, values_of};
use super::evidence::{ObjectsNo, View, World};
use super::identity::{Identity, Trial};
use super::urls::{Path, Segment};
use super::words::{names_a_thing, singular, snake};
use crate::schema::{
    Branch, FieldDef, FieldKind, Format, LinkRule, Names, Pointer, ResponsePart, Rule, Schema,
    TableDef, TableNo, TableOrigin,
};

/// A schema that samples are to be added to.
pub(super) struct Declared {
    pub(super) schema: Schema,
    /// The rule that reads each sample, by its place in the schema.
    pub(super) reading: Vec<Option<usize>>,
    /// How the members of tables are named, where their text says so.
    pub(super) names: HashMap<TableNo, Names>,
    /// Fields that were commented out, by their tables.
    pub(super) declined: HashMap<TableNo, FxHashSet<String>>,
    /// The names of rules that were commented out.
    pub(super) declined_rules: FxHashSet<String>,
    /// The same of rows beside the records of a rule: its name, and that of their table.
    pub(super) declined_rows: FxHashSet<(String, String)>,
}

impl Declared {
    /// The rule that reads a sample.
    pub(super) fn rule(&self, sample: usize) -> Option<&Rule> {
        self.schema.rules.get(self.reading[sample]?)
    }

    /// The rule that reads the responses of a path.
    pub(super) fn read_by(&self, path: &Path) -> Option<&Rule> {
        self.schema.rules.get(path.target.read_by?)
    }

    pub(super) fn table(&self, number: TableNo) -> &TableDef {
        self.schema.table(number)
    }

    /// Whether its rules say from which server they are, if they have URLs.
    pub(super) fn has_absolute_urls(&self) -> Option<bool> {
        let templates = self.schema.rules.iter().flat_map(Rule::urls);
        let absolute = templates.map(|template| template.as_str().contains("://"));
        absolute.reduce(|one, other| one || other)
    }

    /// Makes variables of what stands where a template has variables: those of the rule that reads
    /// the sample, or of any rule.
    pub(super) fn vary(&self, sample: usize, path: &mut Path) {
        let reading = self.reading[sample];
        path.target.read_by = reading;
        let rules = match reading {
            Some(rule) => &self.schema.rules[rule..=rule],
            None => &self.schema.rules,
        };
        for template in rules.iter().flat_map(Rule::urls) {
            let text = template.as_str();
            let text = text.split("{?").next().unwrap_or(text);
            let text = text
                .split_once("://")
                .map_or(text, |(_, rest)| rest.find('/').map_or("", |start| &rest[start..]));
            let parts = text.strip_prefix('/').unwrap_or(text).split('/');
            for (segment, part) in parts.enumerate() {
                let is_variable = part.starts_with('{') && part.ends_with('}');
                match path.target.segments.get(segment) {
                    Some(Segment::Fixed(_)) if is_variable => path.vary(segment),
                    Some(Segment::Fixed(word)) if word == part => {}
                    Some(Segment::Variable) if is_variable => {}
                    _ => break,
                }
            }
        }
    }
}

/// Where the objects stand that a schema reads as rows.
pub(super) struct Claims<'s> {
    declared: &'s Declared,
    of: FxHashMap<ObjectsNo, TableNo>,
    /// Objects at or around which the rules look for something.
    looked_at: FxHashSet<ObjectsNo>,
}

impl<'s> Claims<'s> {
    /// Follows the rules that read samples, and the links of what they read; then what is called
    /// like a table.
    pub(super) fn new(declared: &'s Declared, world: &World, paths: &[Path]) -> Self {
        let (of, looked_at) = (FxHashMap::default(), FxHashSet::default());
        let mut claims = Self { declared, of, looked_at };
        for path in paths {
            if let Some(rule) = declared.read_by(path) {
                claims.part(&View::new(world, path.roots.iter().copied()), &rule.places, rule);
            }
        }
        let kinds = Kinds::of(world);
        for number in numbers(world) {
            let objects = world.objects(number);
            if claims.looked_at.contains(&number)
                || claims.of.contains_key(&number)
                || world.place(number).plain
                || claims.is_part_of_row(&kinds, number)
            {
                continue;
            }
            let is_declared =
                |table: &TableNo| declared.table(*table).made == TableOrigin::Declared;
            let tables = || declared.schema.table_numbers().filter(is_declared);
            let (role, type_name) = (singular(&kinds.role(number)), objects.type_name.as_deref());
            let table = tables().find(|table| {
                let table = declared.table(*table);
                let called = names_a_thing(&role) && role == singular(&table.name);
                let typed = objects.resource && type_name == Some(&*table.resource);
                called || typed
            });
            let table = table.or_else(|| {
                // Things of two kinds may have the same members; their names then have nothing in common.
                let has_its_name = |table: &TableNo| {
                    let name = format!("_{}_", snake(&declared.table(*table).name));
                    names_a_thing(&role) && name.contains(&format!("_{}_", snake(&role)))
                };
                let mut alike = tables()
                    .filter(has_its_name)
                    .filter(|table| claims.has_its_members(world, number, *table));
                alike.next().filter(|_| alike.next().is_none())
            });
            if let Some(table) = table.filter(|table| claims.has_id(world, number, *table)) {
                claims.claim(world, &[number], table);
            }
        }
        claims
    }

    /// Whether objects go by the name of a row that they stand in.
    fn is_part_of_row(&self, kinds: &Kinds<'_>, number: ObjectsNo) -> bool {
        let mut place = kinds.world.place(number);
        while let Some(parent) = place.parent {
            if names_a_thing(&place.role) {
                return false;
            }
            if self.of.contains_key(&parent) {
                return true;
            }
            place = kinds.world.place(parent);
        }
        false
    }

    /// The names of all tables.
    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.declared.schema.table_names()
    }

    pub(super) fn name(&self, table: TableNo) -> &str {
        &self.declared.table(table).name
    }

    /// The table whose rows the objects of a class are, and what identifies them by the schema.
    pub(super) fn identity(&self, class: &Class<'_>) -> Option<(TableNo, Identity, Trial)> {
        let table = class.objects.iter().find_map(|objects| self.of.get(objects))?;
        let ids = self.declared.table(*table).id_fields();
        if let [id] = &*ids {
            let identity = places(id).find_map(|from| {
                let identity = match from.parts() {
                    [name] => Identity::Own(name.clone()),
                    [outer, inner] => Identity::Inside(outer.clone(), inner.clone()),
                    _ => return None,
                };
                let trial = Trial::of(class, identity.cell()?)?;
                Some((identity, trial))
            });
            if let Some((identity, trial)) = identity {
                return Some((*table, identity, trial));
            }
        }
        let is_there = |id: &&FieldDef| {
            places(id).any(|from| always_there(class.world, &class.objects, from.parts()))
        };
        let identity = Identity::Declared(!ids.is_empty() && ids.iter().all(is_there));
        Some((*table, identity, Trial::default()))
    }

    /// Whether objects have just the members that a table has fields for, and so many that this is no
    /// chance.
    fn has_its_members(&self, world: &World, number: ObjectsNo, table: TableNo) -> bool {
        let members = &world.objects(number).members;
        let fields = &self.declared.table(table).fields;
        let declined = self.declared.declined.get(&table);
        let is_at = |field: &FieldDef, name: &str| {
            places(field).any(|from| from.parts().first().is_some_and(|first| first == name))
        };
        members.len() > MEMBERS
            && fields.iter().all(|field| members.iter().any(|member| is_at(field, &member.name)))
            && members.iter().all(|member| {
                fields.iter().any(|field| is_at(field, &member.name))
                    || declined.is_some_and(|names| names.contains(&*member.name))
            })
    }

    /// Whether objects have what identifies rows of a table, links to what is around them apart.
    fn has_id(&self, world: &World, number: ObjectsNo, table: TableNo) -> bool {
        let ids = self.declared.table(table).id_fields();
        let is_there = |id: &&FieldDef| {
            places(id).any(|from| {
                let counts = descend(world, &[number], from.parts()).counts();
                // One that is wrong speaks against itself.
                let fits =
                    id.kind != FieldKind::Int || (counts.ints + counts.digits) * 2 > counts.seen;
                fits && always_there(world, &[number], from.parts())
            })
        };
        let may_lack = |id: &&FieldDef| matches!(id.kind, FieldKind::Link(_));
        ids.iter().any(is_there) && ids.iter().all(|id| is_there(id) || may_lack(id))
    }

    /// Follows what a rule looks for in a response.
    fn part(&mut self, view: &View<'_>, branch: &Branch<ResponsePart>, rule: &Rule) {
        let world = view.world;
        let all = [view.objects(), view.elements().objects()].concat();
        // Resources of JSON:API name their tables themselves.
        let are_resources = rule.format == Format::JsonApi;
        if !are_resources {
            self.looked_at.extend(&all);
        }
        if branch.here.iter().any(|part| matches!(part, ResponsePart::Value(..))) {
            self.look_inside(view);
        }
        for part in &branch.here {
            match part {
                ResponsePart::Records if !are_resources => {
                    let inside = match rule.keyed {
                        true => {
                            let maps = view.objects();
                            let values = maps.iter().flat_map(|map| values_of(world, *map));
                            View::new(world, values).objects()
                        }
                        false => all.clone(),
                    };
                    let rows = descend(world, &inside, &rule.record).objects();
                    let rows = if rule.record.is_empty() { inside } else { rows };
                    self.claim(world, &rows, rule.table);
                }
                ResponsePart::Rows(table, None) => self.claim(world, &all, *table),
                ResponsePart::Rows(table, Some(number)) => {
                    let named = &rule.types[number.0 as usize];
                    let is_it = |number: &&ObjectsNo| {
                        let objects = world.objects(**number);
                        objects.type_name.as_deref() == Some(&*named.name)
                            && *type_member(objects) == *named.member
                    };
                    let rows: Vec<ObjectsNo> = all.iter().filter(is_it).copied().collect();
                    self.claim(world, &rows, *table);
                }
                _ => {}
            }
        }
        for (name, inside) in branch.inside.iter() {
            let there = descend(world, &view.objects(), std::slice::from_ref(&name.to_owned()));
            self.part(&there, inside, rule);
        }
    }

    /// Notes what stands inside of what is kept as it is.
    fn look_inside(&mut self, view: &View<'_>) {
        let all = [view.objects(), view.elements().objects()].concat();
        for number in all {
            self.looked_at.insert(number);
            self.look_inside(&View::new(view.world, values_of(view.world, number)));
        }
        if view.elements().counts().arrays > 0 {
            self.look_inside(&view.elements());
        }
    }

    /// Says of objects that they are rows of a table, and so of what its links lead to.
    fn claim(&mut self, world: &World, objects: &[ObjectsNo], table: TableNo) {
        let new = objects.iter().copied();
        let new: Vec<ObjectsNo> = new.filter(|objects| !self.of.contains_key(objects)).collect();
        if new.is_empty() {
            return;
        }
        self.of.extend(new.iter().map(|objects| (*objects, table)));
        let schema = &self.declared.schema;
        for field in &schema.table(table).fields {
            let entries = match field.kind {
                FieldKind::Links(entries) => Some(&schema.table(entries).fields[2]),
                _ => None,
            };
            let (link, kind) = entries.map_or((&field.link, field.kind), |it| (&it.link, it.kind));
            let Some(link) = link else { continue };
            for from in places(field) {
                let view = descend(world, &new, from.parts());
                let all = [view.objects(), view.elements().objects()].concat();
                let inside = match &*link.record {
                    [] => all,
                    record => descend(world, &all, record).objects(),
                };
                self.linked(world, &inside, kind, link);
            }
        }
    }

    fn linked(&mut self, world: &World, objects: &[ObjectsNo], kind: FieldKind, link: &LinkRule) {
        match (kind, &link.one_of, &link.by) {
            (FieldKind::Link(to), ..) => self.claim(world, objects, to),
            (.., Some(by)) => self.claim(world, objects, by.table),
            (_, Some(one_of), _) => {
                for number in objects {
                    let type_name = world.objects(*number).type_name.as_deref();
                    if let Some(to) = one_of.table_of(type_name) {
                        self.claim(world, &[*number], to);
                    }
                }
            }
            _ => {}
        }
    }
}

/// Objects that have the members of a table's rows, and more than so many, may be rows of it.
const MEMBERS: usize = 3;

impl TableDef {
    fn id_fields(&self) -> Vec<&FieldDef> {
        self.id.iter().map(|id| self.field(*id)).collect()
    }
}

/// All places where a field may be in an object.
pub(super) fn places(field: &FieldDef) -> impl Iterator<Item = &Pointer> {
    std::iter::once(&field.from).chain(&field.also_from)
}

/// What stands on a way inside of objects.
pub(super) fn descend<'w>(world: &'w World, objects: &[ObjectsNo], way: &[String]) -> View<'w> {
    let Some((name, rest)) = way.split_first() else { return View::new(world, []) };
    let members = View::members(world, objects).into_iter();
    let there = members.filter(|member| member.name == name).map(|member| member.view).next();
    let there = there.unwrap_or(View::new(world, []));
    if rest.is_empty() { there } else { descend(world, &there.objects(), rest) }
}

/// Whether each of the objects has a value there that could be an id.
fn always_there(world: &World, objects: &[ObjectsNo], way: &[String]) -> bool {
    let seen: usize = objects.iter().map(|objects| world.objects(*objects).seen).sum();
    let counts = descend(world, objects, way).counts();
    counts.seen == seen && counts.ids() + counts.objects == seen
}
