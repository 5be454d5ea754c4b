//! What names say: which are likely ids, which name an entity; and names for what is proposed, of
//! tables in the singular, none twice, none that SQL would need quotes for.

use std::collections::HashSet;

use crate::ingest::TYPE_NAME;
use crate::schema::Names;

/// Members that hold the records of any table, and so name none.
const GENERIC: &str = "data items item results result records record rows row nodes node edges edge content \
    contents entries entry list values value objects object docs payload response collection \
    elements embedded search query find lookup";

/// Members that say how things are at the moment.
const CHANGING: &str = "status state phase stage conclusion result outcome progress condition health mode step \
    message note summary description body text comment version etag action reason value level \
    priority severity visibility availability";

/// What times are called that do not change.
const BEGINNINGS: &str = "created added born opened joined founded registered inserted issued";

/// Members that say how something is linked, not what it is.
const POSITIONS: &str = "from to by at in on of for with self parent next prev previous first last other target \
    source origin start end via about";

/// Words that SQL reads as its own where a table's name could stand.
const RESERVED: &str = "all alter and any as between by case cast check collate column commit constraint create \
    cross current default delete distinct drop else end except exists fetch for foreign from \
    full group having in index inner insert intersect into is join left like limit natural \
    not null on or order outer primary references right select set table then to transaction \
    union unique update using where";

/// A name in lower case, its words joined by `_`; only letters, digits and `_` are left.
pub(super) fn snake(name: &str) -> String {
    // A sign in front of a number is all that distinguishes some.
    let signed = [("+", "plus_"), ("-", "minus_")].into_iter().find_map(|(sign, word)| {
        let number = name.strip_prefix(sign)?;
        number.starts_with(|c: char| c.is_ascii_digit()).then(|| format!("{word}{number}"))
    });
    let name = signed.as_deref().unwrap_or(name);
    let plain: String = name.chars().map(|c| if c.is_alphanumeric() { c } else { '_' }).collect();
    // Capitals in a row are one word: `URL`, `homeURL`.
    let letters: Vec<char> = plain.chars().collect();
    let mut eased = String::new();
    for (at, letter) in letters.iter().enumerate() {
        let after = at > 0 && letters[at - 1].is_uppercase();
        let before_small = letters.get(at + 1).is_some_and(|next| next.is_lowercase());
        if letter.is_uppercase() && after && !before_small {
            eased.extend(letter.to_lowercase());
        } else {
            eased.push(*letter);
        }
    }
    let snake = Names::Snake.write(&eased);
    if snake.is_empty() { "value".to_owned() } else { snake }
}

/// The name of one of many.
pub(super) fn singular(name: &str) -> String {
    let name = snake(name);
    let whole = [("people", "person"), ("children", "child"), ("men", "man"), ("women", "woman")];
    for (many, one) in whole {
        if name == many || name.ends_with(&format!("_{many}")) {
            return format!("{}{one}", &name[..name.len() - many.len()]);
        }
    }
    let cut = |end: &str, by: &str| {
        let stem = name.strip_suffix(end).filter(|stem| stem.len() > 1)?;
        Some(format!("{stem}{by}"))
    };
    let stays =
        ["ss", "us", "is", "news", "series", "species"].iter().any(|end| name.ends_with(end));
    let shorter = || {
        cut("ies", "y")
            .or_else(|| {
                ["ses", "xes", "zes", "ches", "shes"]
                    .iter()
                    .find_map(|end| cut(end, end.strip_suffix("es").unwrap_or(end)))
            })
            .or_else(|| cut("s", ""))
    };
    // "houses" is of "house", not of "hous": a consonant in front decides for most of them.
    if let Some(stem) = name.strip_suffix("ses")
        && !stem.ends_with('s')
        && stem.len() > 1
    {
        return format!("{stem}se").replace("statuse", "status").replace("buse", "bus");
    }
    if stays { name } else { shorter().unwrap_or(name) }
}

fn is_among(words: &str, name: &str) -> bool {
    words.split(' ').any(|word| word == name)
}

/// Members of which one is likely to identify objects, the likeliest first.
pub(super) fn id_rank(name: &str, role: &str) -> Option<usize> {
    let name = snake(name);
    let own = [format!("{role}_id"), format!("{role}id")].contains(&name);
    match &*name {
        "id" => Some(if name == "id" { 0 } else { 1 }),
        "_id" => Some(1),
        _ if own => Some(2),
        "pk" | "uuid" | "guid" | "uid" | "node_id" | "global_id" | "object_id" | "oid" => Some(3),
        "sha" | "hash" | "digest" | "fingerprint" => Some(CONTENT),
        "code" | "key" | "slug" | "iata" | "sku" | "isbn" => Some(NAMED),
        // It may well be the id of something else.
        _ if name.ends_with("_id") || name.ends_with("_uuid") => Some(FOREIGN),
        "number" | "no" | "nr" | "ref" | "reference" | "handle" | "name" | "username" | "login"
        | "email" | "title" => Some(FOREIGN + 1),
        "position" | "index" | "line" | "row" | "seq" | "step" | "leg" | "day" | "date"
        | "lang" | "language" | "locale" | "field" => Some(AMONG),
        _ if name == role => Some(AMONG),
        _ => None,
    }
}

/// The last rank of names that are hardly anything else than an id.
pub(super) const SURE: usize = 3;
/// The rank of names by which content is identified; an object that only refers to it has them too.
pub(super) const CONTENT: usize = 4;
/// The rank of names that are ids in some trade.
pub(super) const NAMED: usize = 5;
/// The rank of names that may well be the id of something else.
pub(super) const FOREIGN: usize = 6;
/// The rank of names that at best identify a row among others of the same parent.
pub(super) const AMONG: usize = 9;

/// Whether a member's name says by itself that it is an id.
pub(super) fn is_surely_an_id(name: &str) -> bool {
    id_rank(name, "").is_some_and(|rank| rank <= SURE)
}

/// Whether the values of a member are what things are called, or their ids.
pub(super) fn is_called_by(member: &str) -> bool {
    id_rank(member, "").is_some_and(|rank| rank < AMONG)
}

/// Whether a member likely changes while its entity lives.
pub(super) fn changes(member: &str) -> bool {
    let name = snake(member);
    let last = name.rsplit('_').next().unwrap_or(&name);
    is_among(CHANGING, last)
        || ["last_", "latest_", "current_"].iter().any(|it| name.starts_with(it))
}

/// Whether a member is likely written anew with every change of its row.
pub(super) fn changes_with_rows(member: &str) -> bool {
    let name = snake(member);
    let first = name.split('_').next().unwrap_or(&name);
    is_among("updated modified changed version revision edited", first)
}

/// Whether a member says which page follows.
pub(super) fn is_next(member: &str) -> bool {
    is_among(
        "next next_page next_cursor next_token next_page_token next_url next_link next_offset \
         cursor_next end_cursor continuation",
        &snake(member),
    )
}

/// Whether a member is called like a time.
pub(super) fn is_time(member: &str) -> bool {
    let name = snake(member);
    let last = name.rsplit('_').next().unwrap_or(&name);
    is_among("at time date timestamp ts created updated modified since until expires", last)
}

/// Whether a time is that of a beginning.
pub(super) fn begins(member: &str) -> bool {
    let name = snake(member);
    is_among(BEGINNINGS, name.split('_').next().unwrap_or(&name))
}

/// Whether a name says what something is.
pub(super) fn names_a_thing(name: &str) -> bool {
    let name = snake(name);
    !name.is_empty() && !is_among(GENERIC, &name) && !super::evidence::is_like_an_id(&name)
}

/// Whether a member holds what objects consist of, beside what is said of them.
pub(super) fn is_content(member: &str) -> bool {
    is_among("properties attributes fields props", &snake(member))
}

/// Whether a member holds the rows that others would only name by their addresses.
pub(super) fn is_embedding(member: &str) -> bool {
    is_among("embedded embeds expanded", &snake(member))
}

/// Whether a member of an entry only says where in its list that is.
pub(super) fn is_of_place(member: &str) -> bool {
    member == TYPE_NAME || is_among("cursor position index rank order score offset", &snake(member))
}

/// Whether a name only says how something is linked.
pub(super) fn is_position(name: &str) -> bool {
    is_among(POSITIONS, &snake(name))
}

pub(super) fn is_reserved(name: &str) -> bool {
    is_among(RESERVED, &name.to_lowercase())
}

/// The name for a table: none that SQL reads as its own word, nor one that storage keeps for
/// itself, also with what link tables add to it.
pub(super) fn usable(name: &str) -> String {
    let lower = name.to_lowercase();
    if is_reserved(name) {
        return format!("{name}s");
    }
    let kept = ["sqlite", "backwater"].into_iter().find(|kept| {
        lower.strip_prefix(kept).is_some_and(|rest| rest.is_empty() || rest.starts_with('_'))
    });
    if kept.is_some() { format!("the_{name}") } else { name.to_owned() }
}

/// Names that are taken; SQL is case-insensitive.
#[derive(Default)]
pub(super) struct Taken(HashSet<String>);

impl Taken {
    /// The name, or the first of `name_2`, `name_3`, … that is free.
    pub(super) fn take(&mut self, name: &str) -> String {
        let mut number = 1;
        loop {
            let tried = if number == 1 { name.to_owned() } else { format!("{name}_{number}") };
            if self.0.insert(tried.to_ascii_lowercase()) {
                return tried;
            }
            number += 1;
        }
    }

    pub(super) fn is_free(&self, name: &str) -> bool {
        !self.0.contains(&name.to_ascii_lowercase())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_of_many_has_its_name() {
        let cases = [
            ("sailings", "sailing"),
            ("ferries", "ferry"),
            ("boxes", "box"),
            ("classes", "class"),
            ("houses", "house"),
            ("statuses", "status"),
            ("buses", "bus"),
            ("status", "status"),
            ("people", "person"),
            ("crewPeople", "crew_person"),
            ("bookingLines", "booking_line"),
            ("address", "address"),
            ("s", "s"),
            ("homeURL", "home_url"),
            ("URL", "url"),
            ("ÉTÉ", "été"),
            ("a-b c", "a_b_c"),
            ("", "value"),
            ("+1", "plus_1"),
            ("-1", "minus_1"),
        ];
        for (many, one) in cases {
            assert_eq!(singular(many), one, "{many}");
        }
    }
}
