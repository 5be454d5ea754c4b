//! Where the fields of a table are in an object of a response, and how their names are written
//! there.

use super::{Field, FieldNo};

/// The members of an object that hold fields, as a tree: a field may lie deeper than the object's
/// own members.
#[derive(Debug, Default, PartialEq)]
pub(crate) struct Members(Vec<(Box<str>, Member)>);

/// What a member holds: fields, and further members with fields inside.
#[derive(Debug, Default, PartialEq)]
pub(crate) struct Member {
    pub(crate) fields: Vec<FieldNo>,
    pub(crate) inside: Members,
}

impl Members {
    pub(crate) fn of(fields: &[Field]) -> Self {
        let mut root = Member::default();
        for (number, field) in fields.iter().enumerate() {
            let mut member = &mut root;
            for part in field.from.parts() {
                member = member.inside.get_or_add(part);
            }
            member.fields.push(FieldNo(number as u32));
        }
        root.inside
    }

    fn get_or_add(&mut self, name: &str) -> &mut Member {
        let place = self.0.iter().position(|(known, _)| **known == *name).unwrap_or_else(|| {
            self.0.push((name.into(), Member::default()));
            self.0.len() - 1
        });
        &mut self.0[place].1
    }

    pub(crate) fn get(&self, name: &str) -> Option<&Member> {
        self.0.iter().find(|(known, _)| **known == *name).map(|(_, member)| member)
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        self.0.iter().map(|(name, _)| &**name)
    }
}

impl Member {
    /// The one field that this member is, if it is nothing else.
    pub(crate) fn only_field(&self) -> Option<FieldNo> {
        match *self.fields {
            [field] if self.inside.is_empty() => Some(field),
            _ => None,
        }
    }

    /// All fields in it, at any depth.
    pub(crate) fn all_fields(&self) -> Vec<FieldNo> {
        let inside = self.inside.0.iter().flat_map(|(_, member)| member.all_fields());
        self.fields.iter().copied().chain(inside).collect()
    }
}

/// How names are put together in a response.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Names {
    Camel,
    Pascal,
    Snake,
    Kebab,
}

impl Names {
    pub(crate) const KNOWN: [(&'static str, Names); 4] = [
        ("camelCase", Names::Camel),
        ("PascalCase", Names::Pascal),
        ("snake_case", Names::Snake),
        ("kebab-case", Names::Kebab),
    ];

    /// A name in this manner. Words end at `_`, at `-`, and in front of a capital letter.
    pub(crate) fn write(self, name: &str) -> String {
        let mut words: Vec<String> = Vec::new();
        let mut begins = true;
        for character in name.chars() {
            match words.last_mut() {
                _ if character == '_' || character == '-' => begins = true,
                Some(word) if !begins && !character.is_uppercase() => {
                    word.extend(character.to_lowercase());
                }
                _ => {
                    words.push(character.to_lowercase().collect());
                    begins = false;
                }
            }
        }
        let capital = |word: &String| {
            let mut letters = word.chars();
            let first = letters.next().into_iter().flat_map(char::to_uppercase);
            first.chain(letters.by_ref()).collect::<String>()
        };
        match self {
            Names::Snake => words.join("_"),
            Names::Kebab => words.join("-"),
            Names::Pascal => words.iter().map(capital).collect(),
            Names::Camel => words
                .iter()
                .enumerate()
                .map(|(number, word)| if number == 0 { word.clone() } else { capital(word) })
                .collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_written_in_each_manner() {
        for name in ["departs_at", "departs-at", "departsAt", "DepartsAt"] {
            let written = Names::KNOWN.map(|(_, names)| names.write(name));
            assert_eq!(written, ["departsAt", "DepartsAt", "departs_at", "departs-at"]);
        }
        assert_eq!(Names::Camel.write("id"), "id");
        assert_eq!(Names::Camel.write(""), "");
    }
}
