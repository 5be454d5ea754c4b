//! Where in a response something is looked for.

use super::{FieldNo, Pointer, write_part};
use crate::value::write_json_text;

/// What is looked for in a JSON value, by the way that leads there: members' names and elements'
/// numbers.
#[derive(Debug, PartialEq)]
pub(crate) struct Tree<T>(Vec<Twig<T>>);

/// A way on from a place.
#[derive(Debug, PartialEq)]
struct Twig<T> {
    name: Box<str>,
    /// The name as most responses write it: in quotes, a colon behind it.
    spelled: Box<str>,
    branch: Branch<T>,
}

/// A place on the way: what is looked for just here, and further inside.
#[derive(Debug, PartialEq)]
pub(crate) struct Branch<T> {
    /// The JSON Pointer that leads here.
    pub(crate) way: Box<str>,
    pub(crate) here: Vec<T>,
    pub(crate) inside: Tree<T>,
}

/// What a table looks for in an object.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Lookup {
    Field(FieldNo),
    /// A field that may be here if it is in no better place; the best has the lowest number.
    Also(FieldNo, u8),
    /// What says that the row was deleted.
    Tombstone,
    /// Where an entry of a to-many link points, which is read apart.
    Target,
}

impl<T> Default for Tree<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

impl<T> Default for Branch<T> {
    fn default() -> Self {
        Self { way: "".into(), here: Vec::new(), inside: Tree::default() }
    }
}

impl<T: PartialEq> Branch<T> {
    /// Whether something is looked for here or inside.
    pub(crate) fn leads_to(&self, sought: &T) -> bool {
        self.here.contains(sought) || self.inside.0.iter().any(|twig| twig.branch.leads_to(sought))
    }
}

impl<T: Copy> Branch<T> {
    /// The tree of some places; a place without a way is the root itself.
    pub(crate) fn of<'p>(places: impl IntoIterator<Item = (&'p Pointer, T)>) -> Self {
        let mut root = Self::default();
        for (pointer, sought) in places {
            let mut branch = &mut root;
            for part in pointer.parts() {
                let mut way = String::from(&*branch.way);
                let _ = write_part(&mut way, part);
                branch = branch.inside.get_or_add(part, way);
            }
            branch.here.push(sought);
        }
        root
    }

    /// All that is looked for here and inside, at any depth.
    pub(crate) fn all(&self) -> Vec<T> {
        let inside = self.inside.0.iter().flat_map(|twig| twig.branch.all());
        self.here.iter().copied().chain(inside).collect()
    }
}

impl<T> Tree<T> {
    fn get_or_add(&mut self, name: &str, way: String) -> &mut Branch<T> {
        let place = self.0.iter().position(|twig| *twig.name == *name).unwrap_or_else(|| {
            let mut spelled = String::new();
            write_json_text(&mut spelled, name);
            spelled.push(':');
            let (name, spelled) = (name.into(), spelled.into());
            let branch = Branch { way: way.into(), ..Branch::default() };
            self.0.push(Twig { name, spelled, branch });
            self.0.len() - 1
        });
        &mut self.0[place].branch
    }

    pub(crate) fn get(&self, name: &str) -> Option<&Branch<T>> {
        self.entry(name).map(|(_, branch)| branch)
    }

    /// As [`Self::get`], with the place among the branches.
    pub(crate) fn entry(&self, name: &str) -> Option<(usize, &Branch<T>)> {
        let place = self.0.iter().position(|twig| *twig.name == *name)?;
        Some((place, &self.0[place].branch))
    }

    /// The branch in a place, with its name as most responses write it.
    #[inline]
    pub(crate) fn spelled(&self, place: usize) -> Option<(&str, &Branch<T>)> {
        self.0.get(place).map(|twig| (&*twig.spelled, &twig.branch))
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(super) fn branches_mut(&mut self) -> impl Iterator<Item = &mut Branch<T>> {
        self.0.iter_mut().map(|twig| &mut twig.branch)
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = (&str, &Branch<T>)> {
        self.0.iter().map(|twig| (&*twig.name, &twig.branch))
    }
}

impl Branch<Lookup> {
    /// The one field that this is, if it is nothing else.
    pub(crate) fn only_field(&self) -> Option<FieldNo> {
        match *self.here {
            [Lookup::Field(field)] if self.inside.is_empty() => Some(field),
            _ => None,
        }
    }
}
