//! How the names of fields are written in responses.

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
