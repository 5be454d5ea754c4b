//! What was seen in the samples: for each place in them, which values; for each kind of object,
//! which members, and enough of every object to decide whether a member identifies them.

use std::collections::HashMap;
use std::hash::Hasher;
use std::ops::AddAssign;

use rustc_hash::{FxHashMap, FxHashSet};
use siphasher::sip::SipHasher13;

use super::words::is_surely_an_id;

/// A place where values stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct ShapeNo(pub(super) u32);

/// The objects of one named type at one place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct ObjectsNo(pub(super) u32);

/// This many different texts of a place are remembered, to be proposed as its only values.
const WORDS: usize = 12;
/// A longer text is none of a set.
const WORD: usize = 40;
/// An object with more members is rather a map.
const MEMBERS: usize = 1000;

/// All that was seen.
#[derive(Default)]
pub(super) struct World {
    pub(super) shapes: Vec<Shape>,
    pub(super) objects: Vec<Objects>,
    pub(super) documents: Vec<Document>,
    /// What objects remember, each once: most are met in many responses.
    cells: Vec<Stored>,
    known_cells: FxHashMap<u64, CellsNo>,
    /// The values of cells, block by block: those of one object lie in one.
    blocks: Vec<Vec<Cell>>,
    /// The members that objects remember, each set of them once.
    layouts: Vec<Box<[u64]>>,
    known_layouts: FxHashMap<Box<[u64]>, u32>,
}

/// Where the cells of an object are.
struct Stored {
    block: u32,
    at: u32,
    layout: u32,
}

/// So many cells are in a block.
const BLOCK: usize = 1 << 14;

/// What an object remembers: values, by the hashes of the ways to them.
#[derive(Debug, Clone, Copy)]
pub(super) struct Cells<'w> {
    ways: &'w [u64],
    values: &'w [Cell],
}

impl<'w> Cells<'w> {
    pub(super) fn iter(self) -> impl Iterator<Item = (u64, Cell)> + use<'w> {
        self.ways.iter().copied().zip(self.values.iter().copied())
    }

    pub(super) fn get(self, way: u64) -> Option<Cell> {
        let place = self.ways.iter().position(|known| *known == way)?;
        self.values.get(place).copied()
    }
}

/// The number of what an object remembers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) struct CellsNo(u32);

/// A response: what it answers, as far as that decides whether two may speak of one entity.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Document {
    pub(super) path: usize,
    /// The hash of what stands in the path's variables.
    pub(super) variables: u64,
}

/// How many values of each kind.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Counts {
    pub(super) seen: usize,
    pub(super) nulls: usize,
    pub(super) bools: usize,
    pub(super) ints: usize,
    pub(super) floats: usize,
    /// Numbers that neither an int nor a float has exactly.
    pub(super) broad: usize,
    /// Whole numbers that a float would round.
    pub(super) wide: usize,
    /// Whole numbers that are seconds since 1970 in this century, and milliseconds.
    pub(super) seconds: usize,
    pub(super) milliseconds: usize,
    pub(super) texts: usize,
    /// Texts that are times of RFC 3339.
    pub(super) times: usize,
    /// Texts that are whole numbers.
    pub(super) digits: usize,
    /// Texts that only a json field holds.
    pub(super) odd: usize,
    /// Values that no field holds.
    pub(super) unkept: usize,
    pub(super) objects: usize,
    pub(super) arrays: usize,
    /// Objects and arrays that were not looked into, being too deep.
    pub(super) deep: usize,
}

impl Counts {
    /// Whether no object or array is among the values.
    pub(super) fn are_plain(&self) -> bool {
        self.objects + self.arrays + self.deep == 0
    }

    /// Values that are neither null nor an object or array.
    pub(super) fn scalars(&self) -> usize {
        self.seen - self.nulls - self.objects - self.arrays - self.deep
    }

    /// Values that could be an id.
    pub(super) fn ids(&self) -> usize {
        self.ints + self.texts - self.odd
    }
}

impl AddAssign<&Counts> for Counts {
    fn add_assign(&mut self, other: &Counts) {
        self.seen += other.seen;
        self.nulls += other.nulls;
        self.bools += other.bools;
        self.ints += other.ints;
        self.floats += other.floats;
        self.broad += other.broad;
        self.wide += other.wide;
        self.seconds += other.seconds;
        self.milliseconds += other.milliseconds;
        self.texts += other.texts;
        self.times += other.times;
        self.digits += other.digits;
        self.odd += other.odd;
        self.unkept += other.unkept;
        self.objects += other.objects;
        self.arrays += other.arrays;
        self.deep += other.deep;
    }
}

/// The values of one place.
#[derive(Default)]
pub(super) struct Shape {
    pub(super) counts: Counts,
    /// The hashes of its whole numbers and texts; a number is its digits.
    pub(super) ids: FxHashSet<u64>,
    pub(super) words: Words,
    /// Objects by the type that they name.
    pub(super) objects: Vec<(Option<Box<str>>, ObjectsNo)>,
    /// What stands in its arrays.
    pub(super) elements: Option<ShapeNo>,
    pub(super) place: Place,
}

/// Where values stand.
#[derive(Debug, Clone, Default)]
pub(super) struct Place {
    /// The name that leads there; empty for a whole response.
    pub(super) role: Box<str>,
    /// As people read it: the response, and the way inside of it.
    pub(super) pointer: Box<str>,
    /// The objects that it is inside of.
    pub(super) parent: Option<ObjectsNo>,
    /// Whether it is an element of an array, or a member by its id.
    pub(super) many: bool,
    /// Inside of what is taken as it is: no object there is a row.
    pub(super) plain: bool,
    /// Whether it is the whole answer to a request for one entity.
    pub(super) single: bool,
}

/// The different texts of a place, as long as they are few.
#[derive(Debug, Clone, Default)]
pub(super) struct Words {
    pub(super) seen: Vec<(Box<str>, usize)>,
    pub(super) more: bool,
}

impl Words {
    pub(super) fn add(&mut self, text: &str, times: usize) {
        if let Some((_, count)) = self.seen.iter_mut().find(|(word, _)| **word == *text) {
            *count += times;
        } else if self.seen.len() == WORDS || text.chars().count() > WORD {
            self.more = true;
        } else {
            self.seen.push((text.into(), times));
        }
    }
}

/// The objects of one named type at one place.
pub(super) struct Objects {
    pub(super) shape: ShapeNo,
    pub(super) type_name: Option<Box<str>>,
    /// Whether they are resources of JSON:API documents, or point at such.
    pub(super) resource: bool,
    pub(super) seen: usize,
    pub(super) members: Vec<Member>,
    by_name: HashMap<Box<str>, usize>,
    /// Members whose names are rather ids than names.
    pub(super) keyed: Option<Keyed>,
    pub(super) rows: Vec<Seen>,
    /// What was met in a document, by the array; and that document.
    known: (u32, FxHashSet<(u32, CellsNo)>),
}

/// A member of objects.
pub(super) struct Member {
    pub(super) name: Box<str>,
    /// The name's hash.
    pub(super) hash: u64,
    /// Whether its name says that it is an id.
    pub(super) is_id: bool,
    /// How many of the objects have it.
    pub(super) present: usize,
    pub(super) shape: ShapeNo,
    /// Whether it is a relationship of JSON:API, which is a link or nothing.
    pub(super) relationship: bool,
}

/// Members by their ids.
pub(super) struct Keyed {
    pub(super) names: FxHashSet<u64>,
    pub(super) digits: bool,
    pub(super) shape: ShapeNo,
}

/// One object, as far as it can be distinguished from others: its scalar members, and of the objects
/// in it the ids, or if they have none, their scalar members.
pub(super) struct Seen {
    pub(super) document: u32,
    /// The array that it stands in.
    pub(super) array: u32,
    /// Values by the hash of the member's name, or of the way to it.
    pub(super) cells: CellsNo,
}

/// A scalar value by its hash; the lowest bit says whether it is a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) struct Cell(pub(super) u64);

impl Cell {
    pub(super) fn of_text(text: &str) -> Self {
        Self(hash(text) | 1)
    }

    pub(super) fn of_other(raw: &str) -> Self {
        Self(hash(raw) & !1)
    }

    pub(super) fn is_text(self) -> bool {
        self.0 & 1 == 1
    }

    pub(super) fn is_null(self) -> bool {
        self == Self::of_other("null")
    }

    /// The same for a number and its digits.
    pub(super) fn id(self) -> u64 {
        self.0 | 1
    }
}

/// The hash of the way to a member inside of another.
pub(super) fn way(outer: u64, inner: u64) -> u64 {
    outer.rotate_left(7) ^ inner.wrapping_mul(0x9E37_79B9_7F4A_7C15)
}

/// The same in every run.
pub(super) fn hash(text: &str) -> u64 {
    let mut hasher = SipHasher13::new_with_keys(0x6261_636b, 0x7761_7465);
    hasher.write(text.as_bytes());
    hasher.finish()
}

impl World {
    /// Lets go what only reading needs.
    pub(super) fn is_read(&mut self) {
        for objects in &mut self.objects {
            objects.known = Default::default();
            objects.rows.shrink_to_fit();
        }
        (self.known_cells, self.known_layouts) = Default::default();
        self.cells.shrink_to_fit();
    }

    /// Forgets what single objects held.
    pub(super) fn forget_rows(&mut self) {
        for objects in &mut self.objects {
            objects.rows = Vec::new();
        }
        (self.cells, self.blocks, self.layouts) = Default::default();
    }

    pub(super) fn shape(&mut self, place: Place) -> ShapeNo {
        self.shapes.push(Shape { place, ..Shape::default() });
        ShapeNo(self.shapes.len() as u32 - 1)
    }

    pub(super) fn objects(&self, number: ObjectsNo) -> &Objects {
        &self.objects[number.0 as usize]
    }

    pub(super) fn place(&self, number: ObjectsNo) -> &Place {
        &self.at(self.objects(number).shape).place
    }

    pub(super) fn at(&self, number: ShapeNo) -> &Shape {
        &self.shapes[number.0 as usize]
    }

    pub(super) fn at_mut(&mut self, number: ShapeNo) -> &mut Shape {
        &mut self.shapes[number.0 as usize]
    }

    /// The objects of a type at a place.
    pub(super) fn objects_at(
        &mut self,
        shape: ShapeNo,
        type_name: Option<&str>,
        resource: bool,
    ) -> ObjectsNo {
        let known = &self.at(shape).objects;
        if let Some((_, number)) = known.iter().find(|(known, _)| known.as_deref() == type_name) {
            return *number;
        }
        let number = ObjectsNo(self.objects.len() as u32);
        self.objects.push(Objects {
            shape,
            type_name: type_name.map(Box::from),
            resource,
            seen: 0,
            members: Vec::new(),
            by_name: HashMap::new(),
            keyed: None,
            rows: Vec::new(),
            known: Default::default(),
        });
        self.at_mut(shape).objects.push((type_name.map(Box::from), number));
        number
    }

    /// The elements of the arrays at a place.
    pub(super) fn elements_at(&mut self, shape: ShapeNo) -> ShapeNo {
        if let Some(elements) = self.at(shape).elements {
            return elements;
        }
        let place = &self.at(shape).place;
        let apart = if place.parent.is_none() && !place.many { " at " } else { "" };
        let pointer = format!("{}{apart}/*", place.pointer);
        let place = Place { many: true, single: false, pointer: pointer.into(), ..place.clone() };
        let elements = self.shape(place);
        self.at_mut(shape).elements = Some(elements);
        elements
    }

    fn inside(&self, objects: ObjectsNo, role: &str, pointer: &str) -> Place {
        let place = self.place(objects);
        // The way inside of a response stands apart from what the response is called.
        let apart = if place.parent.is_none() && !place.many { " at " } else { "" };
        Place {
            role: role.into(),
            pointer: format!("{}{apart}/{pointer}", place.pointer).into(),
            parent: Some(objects),
            many: false,
            plain: place.plain,
            single: false,
        }
    }

    /// A member of objects, by its number; `None` if it goes by an id.
    pub(super) fn member(&mut self, objects: ObjectsNo, name: &str) -> Option<usize> {
        let these = &self.objects[objects.0 as usize];
        if let Some(member) = these.by_name.get(name) {
            return Some(*member);
        }
        if is_like_an_id(name) || these.members.len() == MEMBERS {
            return None;
        }
        let place = self.inside(objects, name, name);
        let shape = self.shape(place);
        let these = &mut self.objects[objects.0 as usize];
        let member = these.members.len();
        let hash = hash(name);
        these.members.push(Member {
            name: name.into(),
            hash,
            is_id: is_surely_an_id(name),
            present: 0,
            shape,
            relationship: false,
        });
        these.by_name.insert(name.into(), member);
        Some(member)
    }

    /// Where the members stand that go by ids.
    pub(super) fn keyed(&mut self, objects: ObjectsNo, name: &str) -> ShapeNo {
        if self.objects(objects).keyed.is_none() {
            let role = self.place(objects).role.clone();
            let place = Place { many: true, ..self.inside(objects, &role, "*") };
            let shape = self.shape(place);
            let keyed = Keyed { names: FxHashSet::default(), digits: true, shape };
            self.objects[objects.0 as usize].keyed = Some(keyed);
        }
        let Some(keyed) = &mut self.objects[objects.0 as usize].keyed else { return ShapeNo(0) };
        keyed.names.insert(Cell::of_text(name).id());
        keyed.digits &= crate::schema::whole(name).is_some();
        keyed.shape
    }

    /// The number of some cells.
    pub(super) fn remember(&mut self, cells: &[(u64, Cell)]) -> CellsNo {
        let mut hasher = SipHasher13::new();
        for (member, cell) in cells {
            hasher.write_u64(*member);
            hasher.write_u64(cell.0);
        }
        if let Some(known) = self.known_cells.get(&hasher.finish()) {
            return *known;
        }
        let ways: Box<[u64]> = cells.iter().map(|(way, _)| *way).collect();
        let layouts = &mut self.layouts;
        let layout = *self.known_layouts.entry(ways).or_insert_with_key(|ways| {
            layouts.push(ways.clone());
            layouts.len() as u32 - 1
        });
        let has_room = |block: &Vec<Cell>| block.len() + cells.len() <= block.capacity();
        if !self.blocks.last().is_some_and(has_room) {
            self.blocks.push(Vec::with_capacity(cells.len().max(BLOCK)));
        }
        let block = self.blocks.len() as u32 - 1;
        let values = &mut self.blocks[block as usize];
        self.cells.push(Stored { block, at: values.len() as u32, layout });
        values.extend(cells.iter().map(|(_, cell)| *cell));
        let number = CellsNo(self.cells.len() as u32 - 1);
        self.known_cells.insert(hasher.finish(), number);
        number
    }

    pub(super) fn cells(&self, number: CellsNo) -> Cells<'_> {
        let Stored { block, at, layout } = self.cells[number.0 as usize];
        let ways = &*self.layouts[layout as usize];
        let start = at as usize;
        Cells { ways, values: &self.blocks[block as usize][start..start + ways.len()] }
    }

    /// Remembers an object, unless the same one was seen in that array. Documents come one after the
    /// other.
    pub(super) fn saw(&mut self, objects: ObjectsNo, seen: Seen) {
        let these = &mut self.objects[objects.0 as usize];
        let (document, known) = &mut these.known;
        if *document != seen.document {
            *document = seen.document;
            known.clear();
        }
        if known.insert((seen.array, seen.cells)) {
            these.rows.push(seen);
        }
    }
}

/// Whether a member's name is rather an id.
pub(super) fn is_like_an_id(name: &str) -> bool {
    let hex = |c: char| c.is_ascii_hexdigit();
    let dashes = name.matches('-').count();
    let uuid = name.len() == 36 && dashes == 4 && name.chars().all(|c| hex(c) || c == '-');
    let long = name.len() >= 16 && name.chars().all(hex) && name.contains(|c: char| c.is_numeric());
    uuid || long || name.starts_with(|c: char| c.is_ascii_digit())
}

/// The same place in several kinds of objects, or the same in several responses.
#[derive(Clone)]
pub(super) struct View<'w> {
    pub(super) world: &'w World,
    pub(super) shapes: Vec<ShapeNo>,
}

impl<'w> View<'w> {
    pub(super) fn new(world: &'w World, shapes: impl IntoIterator<Item = ShapeNo>) -> Self {
        Self { world, shapes: shapes.into_iter().collect() }
    }

    fn all(&self) -> impl Iterator<Item = &'w Shape> {
        self.shapes.iter().map(|shape| self.world.at(*shape))
    }

    pub(super) fn counts(&self) -> Counts {
        let mut counts = Counts::default();
        self.all().for_each(|shape| counts += &shape.counts);
        counts
    }

    pub(super) fn objects(&self) -> Vec<ObjectsNo> {
        self.all().flat_map(|shape| shape.objects.iter().map(|(_, number)| *number)).collect()
    }

    pub(super) fn elements(&self) -> View<'w> {
        View::new(self.world, self.all().filter_map(|shape| shape.elements))
    }

    pub(super) fn ids(&self) -> FxHashSet<u64> {
        self.all().flat_map(|shape| shape.ids.iter().copied()).collect()
    }

    pub(super) fn words(&self) -> Words {
        let mut words = Words::default();
        for shape in self.all() {
            words.more |= shape.words.more;
            shape.words.seen.iter().for_each(|(word, count)| words.add(word, *count));
        }
        words
    }

    /// The members of all objects here, by name, in the order of first sight; how many of the
    /// objects have each.
    pub(super) fn members(world: &'w World, objects: &[ObjectsNo]) -> Vec<Members<'w>> {
        let mut out: Vec<Members<'w>> = Vec::new();
        let mut places: HashMap<&str, usize> = HashMap::new();
        for number in objects {
            for member in &world.objects(*number).members {
                let place = *places.entry(&member.name).or_insert_with(|| {
                    let view = View::new(world, []);
                    out.push(Members { name: &member.name, present: 0, view, relationship: false });
                    out.len() - 1
                });
                out[place].present += member.present;
                out[place].relationship |= member.relationship;
                out[place].view.shapes.push(member.shape);
            }
        }
        out
    }

    /// Whether values here and there are of one form: objects with mostly the same members, or
    /// arrays of such. What is empty is like anything of its kind.
    pub(super) fn is_like(&self, other: &View<'w>) -> bool {
        let (a, b) = (self.counts(), other.counts());
        let scalars = |counts: &Counts| counts.scalars() > 0;
        let one_kind = (a.objects > 0) == (b.objects > 0)
            && (a.arrays > 0) == (b.arrays > 0)
            && scalars(&a) == scalars(&b);
        if !one_kind || (a.arrays > 0 && !self.elements().is_like_elements(&other.elements())) {
            return false;
        }
        let here = View::members(self.world, &self.objects());
        let there = View::members(self.world, &other.objects());
        if here.is_empty() || there.is_empty() {
            return here.is_empty() && there.is_empty();
        }
        let both: Vec<_> = here
            .iter()
            .filter_map(|one| Some((one, there.iter().find(|other| other.name == one.name)?)))
            .collect();
        if both.len() * 2 < here.len() + there.len() - both.len() {
            return false;
        }
        // Of what has members in both, most is alike too.
        let inner = both.iter().filter(|(one, other)| {
            let deep = |view: &View<'_>| view.counts().objects + view.counts().arrays > 0;
            deep(&one.view) && deep(&other.view)
        });
        let inner: Vec<bool> = inner.map(|(one, other)| one.view.is_like(&other.view)).collect();
        inner.iter().filter(|alike| **alike).count() * 2 >= inner.len()
    }

    fn is_like_elements(&self, other: &View<'w>) -> bool {
        self.counts().seen == 0 || other.counts().seen == 0 || self.is_like(other)
    }

    /// Whether something in it is no text for any field.
    pub(super) fn holds_unkept(&self) -> bool {
        let inside = |objects: &ObjectsNo| {
            let objects = self.world.objects(*objects);
            let members = objects.members.iter().map(|member| member.shape);
            let all = members.chain(objects.keyed.as_ref().map(|keyed| keyed.shape));
            View::new(self.world, all).holds_unkept()
        };
        self.counts().unkept > 0
            || (self.all().any(|shape| shape.elements.is_some()) && self.elements().holds_unkept())
            || self.objects().iter().any(inside)
    }
}

/// A member in all the objects that may have it.
pub(super) struct Members<'w> {
    pub(super) name: &'w str,
    pub(super) present: usize,
    pub(super) view: View<'w>,
    pub(super) relationship: bool,
}

impl Members<'_> {
    /// In how many objects it could be an id: where it is repeated in one, that is one.
    pub(super) fn ids(&self) -> usize {
        self.view.counts().ids().min(self.present)
    }
}
