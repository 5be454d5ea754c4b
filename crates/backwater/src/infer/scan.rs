//! Reading a sample: every value is counted at its place.

use std::collections::HashSet;

use super::classes::{KEY_OF_MODEL, MODEL};
use super::evidence::{Cell, Document, ObjectsNo, Place, Seen, ShapeNo, World, way};
use crate::ingest::resource::{DOCUMENT, ResourceMember};
use crate::ingest::{Fault, JsonReader, Next, Number, TYPE_NAME, path_of};
use crate::schema::whole;
use crate::value::{Timestamp, has_lone_surrogate};

/// Deeper objects are not looked into: they are json.
const DEEPEST: usize = 60;
/// Whole numbers up to here have a binary64 of their own.
const EXACT: u64 = 1 << 53;
/// The seconds since 1970 of this century.
const CENTURY: std::ops::Range<i64> = 946_684_800..4_102_444_800;
/// This many different types are distinguished at one place.
const TYPES: usize = 16;

type Read<T> = Result<T, Fault>;

/// What an object remembers of a value of its, by the hash of the way to it.
type Cells = Vec<(u64, Cell)>;

/// How a response is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Written {
    Json,
    Ndjson,
    JsonApi,
    GraphQl,
}

/// Finds out how a text is written, by its beginning and by what its outermost object has.
pub(super) fn written(text: &str, graphql: bool) -> Read<Written> {
    let mut json = JsonReader::new(text);
    json.skip()?;
    if !json.is_at_end() {
        while !json.is_at_end() {
            json.skip()?;
        }
        return Ok(Written::Ndjson);
    }
    let mut json = JsonReader::new(text);
    if json.peek()? != Next::Object {
        return Ok(Written::Json);
    }
    json.open();
    let (mut names, mut typed, mut first) = (Vec::new(), false, true);
    let mut resources = None;
    while json.member(first)? {
        first = false;
        let name = json.name()?.into_owned();
        json.peek()?;
        let at = json.at();
        let raw = json.skip()?;
        typed |= raw.contains("\"__typename\"");
        if name == "data" {
            let end = json.at();
            json.go(at);
            resources = Some(are_resources(&mut json)?);
            json.go(end);
        }
        names.push(name);
    }
    let only = |known: &[&str]| names.iter().all(|name| known.contains(&name.as_str()));
    let says_so = names.iter().any(|name| name == "jsonapi");
    if only(&DOCUMENT) && (resources == Some(true) || (says_so && resources.is_some())) {
        return Ok(Written::JsonApi);
    }
    let type_name = typed || graphql || names.iter().any(|name| name == "errors");
    let is_graphql = type_name && resources.is_some() && only(&["data", "errors", "extensions"]);
    Ok(if is_graphql { Written::GraphQl } else { Written::Json })
}

/// Whether a resource of JSON:API comes next, or an array of them.
fn are_resources(json: &mut JsonReader<'_>) -> Read<bool> {
    if json.peek()? == Next::Array {
        json.open();
        if !json.element(true)? {
            return Ok(false);
        }
    }
    if json.peek()? != Next::Object {
        return Ok(false);
    }
    let found = json.identifier()?;
    Ok(found.type_name.is_some() && found.has_text_id && found.has_content)
}

/// Reads one sample into what is known.
pub(super) struct Scanner<'w, 't> {
    world: &'w mut World,
    json: JsonReader<'t>,
    document: u32,
    arrays: u32,
    array: u32,
    /// Where a null means that the server failed to resolve the value.
    unresolved: HashSet<usize>,
}

impl<'w, 't> Scanner<'w, 't> {
    pub(super) fn new(world: &'w mut World, text: &'t str, document: Document) -> Self {
        world.documents.push(document);
        let document = world.documents.len() as u32 - 1;
        let json = JsonReader::new(text);
        Self { world, json, document, arrays: 0, array: 0, unresolved: HashSet::new() }
    }

    /// Reads all of it.
    pub(super) fn read(mut self, root: ShapeNo, written: Written) -> Read<()> {
        if written == Written::JsonApi {
            return self.json_api(root);
        }
        if written == Written::GraphQl {
            self.unresolved = self.unresolved()?;
            self.json.go(0);
        }
        self.value(root, 0)?;
        while !self.json.is_at_end() {
            self.value(root, 0)?;
        }
        Ok(())
    }

    /// The places of nulls that the errors of a GraphQL response are about.
    fn unresolved(&mut self) -> Read<HashSet<usize>> {
        let mut unresolved = HashSet::new();
        let member = |name: &str| [name.to_owned()];
        if !self.json.descend(&member("errors"))? {
            return Ok(unresolved);
        }
        let errors: serde_json::Value = serde_json::from_str(self.json.skip()?).unwrap_or_default();
        for error in errors.as_array().into_iter().flatten() {
            self.json.go(0);
            if self.json.descend(&member("data"))? {
                unresolved.extend(self.json.null_on(&path_of(error))?);
            }
        }
        Ok(unresolved)
    }

    /// Reads a value, which is no member that a row remembers.
    fn value(&mut self, shape: ShapeNo, depth: usize) -> Read<()> {
        self.member_value(shape, depth, 0, &mut Cells::new())
    }

    /// Reads the value of a member; adds what its object remembers of it.
    fn member_value(
        &mut self,
        shape: ShapeNo,
        depth: usize,
        member: u64,
        cells: &mut Cells,
    ) -> Read<()> {
        let next = self.json.peek()?;
        if next == Next::Null && self.unresolved.contains(&self.json.at()) {
            return self.json.word("null");
        }
        let counts = &mut self.world.at_mut(shape).counts;
        counts.seen += 1;
        match next {
            Next::Null | Next::True | Next::False => {
                let raw = self.json.skip()?;
                *(if next == Next::Null { &mut counts.nulls } else { &mut counts.bools }) += 1;
                cells.push((member, Cell::of_other(raw)));
            }
            Next::Number => cells.push((member, self.number(shape)?)),
            Next::Text => cells.push((member, self.text(shape)?)),
            Next::Object | Next::Array if depth >= DEEPEST => {
                counts.deep += 1;
                let raw = self.json.skip()?;
                self.world.at_mut(shape).counts.unkept += usize::from(has_lone_surrogate(raw));
            }
            Next::Array => {
                counts.arrays += 1;
                let elements = self.world.elements_at(shape);
                self.json.open();
                self.arrays += 1;
                let (mut first, array, this) = (true, self.array, self.arrays);
                while self.json.element(first)? {
                    first = false;
                    self.array = this;
                    self.value(elements, depth + 1)?;
                }
                self.array = array;
            }
            Next::Object => {
                counts.objects += 1;
                let type_name = self.type_name()?;
                let objects = self.objects_at(shape, type_name.as_deref());
                let inner = self.object(objects, depth)?;
                cells.extend(inner.into_iter().map(|(inner, cell)| (way(member, inner), cell)));
            }
        }
        Ok(())
    }

    fn number(&mut self, shape: ShapeNo) -> Read<Cell> {
        let raw = self.json.skip()?;
        let shape = self.world.at_mut(shape);
        match JsonReader::new(raw).number() {
            Ok(Number::Int(number)) => {
                shape.counts.ints += 1;
                shape.counts.wide += usize::from(number.unsigned_abs() > EXACT);
                shape.counts.seconds += usize::from(CENTURY.contains(&number));
                shape.counts.milliseconds += usize::from(CENTURY.contains(&(number / 1000)));
                let cell = Cell::of_other(&number.to_string());
                shape.ids.insert(cell.id());
                return Ok(cell);
            }
            Ok(Number::Float(_)) => shape.counts.floats += 1,
            Ok(Number::Large(_)) | Err(_) => shape.counts.broad += 1,
        }
        Ok(Cell::of_other(raw))
    }

    fn text(&mut self, shape: ShapeNo) -> Read<Cell> {
        let raw = self.json.skip()?;
        let shape = self.world.at_mut(shape);
        shape.counts.texts += 1;
        let Ok(text) = JsonReader::new(raw).text() else {
            shape.counts.unkept += 1;
            shape.counts.odd += 1;
            return Ok(Cell::of_other(raw));
        };
        shape.counts.odd += usize::from(text.contains('\0'));
        shape.counts.times += usize::from(text.parse::<Timestamp>().is_ok());
        shape.counts.digits += usize::from(whole(&text).is_some());
        shape.words.add(&text, 1);
        let cell = Cell::of_text(&text);
        shape.ids.insert(cell.id());
        Ok(cell)
    }

    /// The objects that one belongs to by the type that it names.
    fn objects_at(&mut self, shape: ShapeNo, type_name: Option<&str>) -> ObjectsNo {
        let known = &self.world.at(shape).objects;
        let is_known = known.iter().any(|(known, _)| known.as_deref() == type_name);
        let type_name = type_name.filter(|_| is_known || known.len() < TYPES);
        self.world.objects_at(shape, type_name, false)
    }

    /// The type that the object names which comes next.
    fn type_name(&mut self) -> Read<Option<String>> {
        let start = self.json.at();
        self.json.open();
        let (mut type_name, mut first) = (None, true);
        let (mut model, mut has_key) = (None, false);
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            let typename = &*name == TYPE_NAME;
            has_key |= &*name == KEY_OF_MODEL;
            if &*name == MODEL && self.json.peek()? == Next::Text {
                model =
                    JsonReader::new(self.json.skip()?).text().ok().map(|text| text.into_owned());
            } else if (typename || (&*name == "type" && type_name.is_none()))
                && self.json.peek()? == Next::Text
            {
                let text = JsonReader::new(self.json.skip()?).text();
                type_name = text.ok().map(|text| text.into_owned());
                if typename {
                    break;
                }
            } else {
                self.json.skip()?;
            }
        }
        self.json.go(start);
        Ok(model.filter(|_| has_key).or(type_name))
    }

    /// Reads an object, whose bracket comes next; gives what the one around it remembers of it: its
    /// id, or if it has none, all.
    fn object(&mut self, objects: ObjectsNo, depth: usize) -> Read<Cells> {
        let array = self.array;
        let mut cells = Cells::new();
        self.world.objects[objects.0 as usize].seen += 1;
        let (has_id, own) = self.members(objects, depth, &mut cells)?;
        let mut around = Cells::new();
        if !self.world.place(objects).many {
            around.extend_from_slice(&cells[..own]);
            if has_id {
                let members = &self.world.objects(objects).members;
                let is_id = |hash: u64| members.iter().any(|it| it.hash == hash && it.is_id);
                around.retain(|(member, _)| is_id(*member));
            }
        }
        self.saw(objects, array, cells);
        Ok(around)
    }

    fn saw(&mut self, objects: ObjectsNo, array: u32, cells: Cells) {
        let cells = self.world.remember(&cells);
        let array = if self.world.place(objects).many { array } else { 0 };
        self.world.saw(objects, Seen { document: self.document, array, cells });
    }

    /// Reads the members of an object, whose bracket comes next; gives whether one of them is an id,
    /// and how many of the cells are members' own, which come first.
    fn members(
        &mut self,
        objects: ObjectsNo,
        depth: usize,
        cells: &mut Cells,
    ) -> Read<(bool, usize)> {
        self.json.open();
        let (mut first, mut met) = (true, Vec::new());
        let (mut has_id, mut inside) = (false, Cells::new());
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            let Some(member) = self.world.member(objects, &name) else {
                let shape = self.world.keyed(objects, &name);
                self.value(shape, depth + 1)?;
                continue;
            };
            let known = &mut self.world.objects[objects.0 as usize].members[member];
            let (shape, hash) = (known.shape, known.hash);
            has_id |= known.is_id;
            // Of a repeated member the last one counts.
            if met.contains(&member) {
                cells.retain(|(other, _)| *other != hash);
                inside.clear();
            } else {
                known.present += 1;
                met.push(member);
            }
            let is_object = self.json.peek()? == Next::Object;
            let place = if is_object { &mut inside } else { &mut *cells };
            self.member_value(shape, depth + 1, hash, place)?;
        }
        let own = cells.len();
        cells.append(&mut inside);
        Ok((has_id, own))
    }

    /// Reads a JSON:API document: resources with their attributes and links as members.
    fn json_api(&mut self, root: ShapeNo) -> Read<()> {
        let document = self.world.objects_at(root, None, false);
        self.world.at_mut(root).counts.objects += 1;
        self.world.at_mut(root).counts.seen += 1;
        self.world.objects[document.0 as usize].seen += 1;
        self.json.open();
        let mut first = true;
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            if !matches!(&*name, "data" | "included" | "meta") {
                self.json.skip()?;
                continue;
            }
            let Some(member) = self.world.member(document, &name) else { continue };
            let known = &mut self.world.objects[document.0 as usize].members[member];
            known.present += 1;
            let shape = known.shape;
            if &*name == "meta" {
                self.value(shape, 1)?;
            } else {
                self.resources(shape)?;
            }
        }
        Ok(())
    }

    /// Reads resources, or what points at them: one, an array, or null.
    fn resources(&mut self, shape: ShapeNo) -> Read<()> {
        match self.json.peek()? {
            Next::Array => {
                let counts = &mut self.world.at_mut(shape).counts;
                counts.seen += 1;
                counts.arrays += 1;
                let elements = self.world.elements_at(shape);
                self.json.open();
                let mut first = true;
                while self.json.element(first)? {
                    first = false;
                    self.resources(elements)?;
                }
                Ok(())
            }
            Next::Object => {
                let counts = &mut self.world.at_mut(shape).counts;
                counts.seen += 1;
                counts.objects += 1;
                self.resource(shape)
            }
            _ => self.value(shape, 2),
        }
    }

    fn resource(&mut self, shape: ShapeNo) -> Read<()> {
        let type_name = self.type_name()?;
        let objects = self.world.objects_at(shape, type_name.as_deref(), true);
        self.world.objects[objects.0 as usize].seen += 1;
        let mut cells = Cells::new();
        self.json.open();
        let mut first = true;
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            let value = self.json.peek()?;
            match ResourceMember::of(&name, value) {
                ResourceMember::Id => {
                    let Some(member) = self.world.member(objects, "id") else { continue };
                    let known = &mut self.world.objects[objects.0 as usize].members[member];
                    known.present += 1;
                    let (shape, hash) = (known.shape, known.hash);
                    self.member_value(shape, 3, hash, &mut cells)?;
                }
                ResourceMember::Attributes => {
                    let before = self.world.shapes.len();
                    self.members(objects, 3, &mut cells)?;
                    // Nothing in an attribute is a row.
                    let new = &mut self.world.shapes[before..];
                    new.iter_mut().for_each(|shape| shape.place.plain = true);
                }
                ResourceMember::Relationships => self.relationships(objects)?,
                _ => drop(self.json.skip()?),
            }
        }
        self.saw(objects, 0, cells);
        Ok(())
    }

    fn relationships(&mut self, objects: ObjectsNo) -> Read<()> {
        self.json.open();
        let mut first = true;
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?.into_owned();
            if self.json.peek()? != Next::Object {
                self.json.skip()?;
                continue;
            }
            self.json.open();
            let mut first = true;
            while self.json.linkage(&mut first)? {
                let Some(member) = self.world.member(objects, &name) else {
                    self.json.skip()?;
                    continue;
                };
                let known = &mut self.world.objects[objects.0 as usize].members[member];
                known.present += 1;
                known.relationship = true;
                let shape = known.shape;
                self.resources(shape)?;
            }
        }
        Ok(())
    }
}

/// Where the whole of a response stands.
pub(super) fn root(pointer: &str, role: &str, single: bool) -> Place {
    Place { pointer: pointer.into(), role: role.into(), single, ..Place::default() }
}
