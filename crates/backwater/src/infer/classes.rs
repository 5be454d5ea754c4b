//! Which objects are of one kind by where they stand, or by the type that they name.

use std::collections::{HashMap, HashSet};

use rustc_hash::FxHashSet;

use super::evidence::{Cell, ObjectsNo, Seen, ShapeNo, View, World, hash};
use super::words::{is_surely_an_id, names_a_thing, singular};

/// An object's scalar members by the hashes of their names.
pub(super) struct Row {
    pub(super) document: u32,
    pub(super) array: u32,
    cells: Vec<(u64, Cell)>,
}

impl Row {
    pub(super) fn cell(&self, name: u64) -> Option<Cell> {
        self.cells.iter().find(|(other, _)| *other == name).map(|(_, cell)| *cell)
    }

    /// How many of the members that both have agree, and how many there are; texts apart.
    pub(super) fn agreement(&self, other: &Row, id: u64) -> (usize, usize, usize) {
        let (mut agree, mut texts, mut all) = (0, 0, 0);
        for (name, cell) in self.cells.iter().filter(|(name, _)| *name != id) {
            if let Some(other) = other.cell(*name) {
                all += 1;
                agree += usize::from(other == *cell);
                texts += usize::from(other == *cell && cell.is_text());
            }
        }
        (agree, texts, all)
    }

    pub(super) fn is_against(&self, other: &Row, id: u64) -> bool {
        let (agree, _, all) = self.agreement(other, id);
        agree * 2 < all
    }
}

/// Objects that are of one kind by where they stand or by the type that they name.
pub(super) struct Class<'w> {
    pub(super) world: &'w World,
    pub(super) objects: Vec<ObjectsNo>,
    pub(super) role: String,
    /// The type that their role is.
    pub(super) is: Option<&'w str>,
    pub(super) rows: Vec<Row>,
}

impl<'w> Class<'w> {
    fn new(kinds: &Kinds<'w>, objects: Vec<ObjectsNo>) -> Self {
        let world = kinds.world;
        let role = singular(&kinds.role(objects[0]));
        let typed = kinds.typed.contains(&objects[0]);
        let is = world.objects(objects[0]).type_name.as_deref().filter(|_| typed);
        let mut rows = Vec::new();
        for number in &objects {
            let these = world.objects(*number);
            let names: Vec<u64> = these.members.iter().map(|member| hash(&member.name)).collect();
            rows.extend(these.rows.iter().map(|Seen { document, array, cells }| Row {
                document: *document,
                array: *array,
                cells:
                    cells.iter().map(|(member, cell)| (names[*member as usize], *cell)).collect(),
            }));
        }
        Self { world, objects, role, is, rows }
    }

    pub(super) fn seen(&self) -> usize {
        self.objects.iter().map(|objects| self.world.objects(*objects).seen).sum()
    }

    pub(super) fn type_name(&self) -> Option<&'w str> {
        let typed = |objects: &&ObjectsNo| is_surely_typed(self.world, **objects);
        let first = self.objects.iter().find(typed)?;
        self.world.objects(*first).type_name.as_deref()
    }

    /// The names of the members.
    pub(super) fn names(&self) -> FxHashSet<u64> {
        let members = self.objects.iter().flat_map(|objects| &self.world.objects(*objects).members);
        members.map(|member| hash(&member.name)).collect()
    }

    /// Whether all of them stand in arrays inside of one kind of objects.
    pub(super) fn parents(&self) -> Option<Vec<ObjectsNo>> {
        let parent = |objects: &ObjectsNo| {
            let place = self.world.place(*objects);
            place.parent.filter(|_| place.many)
        };
        self.objects.iter().map(parent).collect()
    }
}

/// Whether the type is given by a member that says nothing else.
pub(super) fn is_surely_typed(world: &World, objects: ObjectsNo) -> bool {
    let objects = world.objects(objects);
    objects.type_name.is_some()
        && (objects.resource || objects.members.iter().any(|member| &*member.name == "__typename"))
}

/// Sets of numbers that grow together.
pub(super) struct Unions(pub(super) Vec<usize>);

impl Unions {
    pub(super) fn root(&self, mut of: usize) -> usize {
        while self.0[of] != of {
            of = self.0[of];
        }
        of
    }

    /// The lower number stays the root.
    pub(super) fn join(&mut self, a: usize, b: usize) {
        let (a, b) = (self.root(a), self.root(b));
        self.0[a.max(b)] = a.min(b);
    }

    pub(super) fn sets(&self) -> Vec<Vec<usize>> {
        let mut sets: Vec<Vec<usize>> = vec![Vec::new(); self.0.len()];
        (0..self.0.len()).for_each(|number| sets[self.root(number)].push(number));
        sets.retain(|set| !set.is_empty());
        sets
    }
}

pub(super) fn numbers(world: &World) -> impl Iterator<Item = ObjectsNo> + use<> {
    (0..world.objects.len() as u32).map(ObjectsNo)
}

/// Whether the members of objects are like each other, and go by ids.
pub(super) fn is_map(world: &World, number: ObjectsNo) -> bool {
    let objects = world.objects(number);
    if objects.resource || world.place(number).plain {
        return false;
    }
    if objects.keyed.is_some() && objects.members.is_empty() {
        return true;
    }
    let views = objects.members.iter().map(|member| View::new(world, [member.shape]));
    let views: Vec<View<'_>> = views.collect();
    if views.len() < 3 || views.iter().any(|view| view.counts().objects != view.counts().seen) {
        return false;
    }
    let names = |view: &View<'_>| -> HashSet<&str> {
        let inside = view.objects().into_iter();
        let members = inside.flat_map(|inside| &world.objects(inside).members);
        members.map(|member| &*member.name).collect()
    };
    let all: Vec<HashSet<&str>> = views.iter().map(names).collect();
    let common = all[1..].iter().fold(all[0].clone(), |common, names| &common & names);
    let either: HashSet<&str> = all.iter().flatten().copied().collect();
    if common.len() < 2 || either.len() > common.len() * 2 {
        return false;
    }
    // An id of their own has to be the name that they go by.
    let sure = |name: &&&str| is_surely_an_id(name);
    let Some(id) = either.iter().find(sure) else { return true };
    objects.members.iter().zip(&views).all(|(member, view)| {
        let name = Cell::of_text(&member.name).id();
        view.objects().into_iter().all(|inside| {
            let inside = world.objects(inside);
            let place = inside.members.iter().position(|member| *member.name == **id);
            inside.rows.iter().all(|row| {
                row.cells
                    .iter()
                    .any(|(member, cell)| Some(*member as usize) == place && cell.id() == name)
            })
        })
    })
}

/// Whether all members of a map go by whole numbers.
pub(super) fn go_by_digits(world: &World, map: ObjectsNo) -> bool {
    let map = world.objects(map);
    map.members.is_empty() && map.keyed.as_ref().is_some_and(|keyed| keyed.digits)
}

/// The places of a map's values.
pub(super) fn values_of(world: &World, map: ObjectsNo) -> Vec<ShapeNo> {
    let objects = world.objects(map);
    let members = objects.members.iter().map(|member| member.shape);
    members.chain(objects.keyed.as_ref().map(|keyed| keyed.shape)).collect()
}

/// What kinds of objects there are, beside those that are an entity each.
pub(super) struct Kinds<'w> {
    pub(super) world: &'w World,
    /// Objects whose members go by ids.
    pub(super) maps: HashSet<ObjectsNo>,
    /// Objects whose type says what they are.
    typed: HashSet<ObjectsNo>,
}

impl<'w> Kinds<'w> {
    pub(super) fn of(world: &'w World) -> Self {
        let maps = numbers(world).filter(|objects| is_map(world, *objects)).collect();
        let roles: HashSet<String> =
            world.shapes.iter().map(|shape| singular(&shape.place.role)).collect();
        let mut typed = HashSet::new();
        for shape in &world.shapes {
            let apart = shape.objects.iter().all(|(type_name, number)| {
                let names_a_role = |type_name: &str| roles.contains(&singular(type_name));
                is_surely_typed(world, *number) || type_name.as_deref().is_some_and(names_a_role)
            });
            typed.extend(shape.objects.iter().map(|(_, number)| *number).filter(|_| apart));
        }
        Self { world, maps, typed }
    }

    /// The name that objects go by: their type's, their member's, or if that says nothing, what is
    /// around it.
    pub(super) fn role(&self, number: ObjectsNo) -> String {
        let objects = self.world.objects(number);
        if let Some(type_name) =
            objects.type_name.as_deref().filter(|_| self.typed.contains(&number))
        {
            return type_name.to_owned();
        }
        let mut place = self.world.place(number);
        while let Some(parent) = place.parent {
            if names_a_thing(&place.role) && !self.maps.contains(&parent) {
                break;
            }
            place = self.world.place(parent);
        }
        place.role.to_string()
    }
}

/// Merges what stands in one place, and what names the same type.
pub(super) fn classes<'w>(kinds: &Kinds<'w>) -> Vec<Class<'w>> {
    let world = kinds.world;
    let mut unions = Unions((0..world.objects.len()).collect());
    let mut typed: HashMap<&str, usize> = HashMap::new();
    for number in numbers(world).filter(|number| is_surely_typed(world, *number)) {
        let type_name = world.objects(number).type_name.as_deref().unwrap_or_default();
        let first = *typed.entry(type_name).or_insert(number.0 as usize);
        unions.join(first, number.0 as usize);
    }
    for shape in &world.shapes {
        let apart = shape.objects.iter().all(|(_, number)| kinds.typed.contains(number));
        for pair in shape.objects.windows(2).filter(|_| !apart) {
            unions.join(pair[0].1.0 as usize, pair[1].1.0 as usize);
        }
    }
    for map in &kinds.maps {
        let inside = View::new(world, values_of(world, *map)).objects();
        inside.windows(2).for_each(|pair| unions.join(pair[0].0 as usize, pair[1].0 as usize));
    }
    let sets = unions.sets().into_iter().map(|set| {
        let objects: Vec<ObjectsNo> =
            set.into_iter().map(|number| ObjectsNo(number as u32)).collect();
        Class::new(kinds, objects)
    });
    sets.filter(|class| {
        class
            .objects
            .iter()
            .all(|objects| !kinds.maps.contains(objects) && !world.place(*objects).plain)
    })
    .collect()
}
