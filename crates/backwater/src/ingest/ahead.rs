//! Which rows the next events of a feed are about, looked for together: each look-up waits for
//! memory, and those of several events wait at once.

use super::json::{JsonReader, Next, Number};
use super::nested::Reader;
use crate::schema::TableDef;
use crate::table::{Cell, Slot, TOGETHER, Together};

/// Ids that stand in events that come next, with the slots that they have already. What an event is
/// about is decided where it is read: this only says where the row of such an id is.
#[derive(Default)]
pub(super) struct Ahead<'de>(Together<(Cell<'de>, Slot)>);

impl Ahead<'_> {
    /// The slot of an id, if it is that of the event on a line.
    #[inline]
    pub(super) fn slot(&self, line: Option<usize>, id: &Cell<'_>) -> Option<Slot> {
        let (known, slot) = self.0[line? % TOGETHER].as_ref()?;
        (known == id).then_some(*slot)
    }
}

impl<'de> Reader<'_, 'de> {
    /// Looks for the rows of events, from the one on a line on, if it is time for that.
    pub(super) fn look_ahead(&mut self, line: usize) {
        let Some(ends) = self.reading.ends else { return };
        // Events come from a remote.
        if !cfg!(feature = "remote") || !line.is_multiple_of(TOGETHER) || ends.len() == 1 {
            return;
        }
        let table = self.reading.rule.table;
        let Some(member) = id_member(self.schema.table(table)) else { return };
        let begins = line.checked_sub(1).map_or(0, |before| ends[before]);
        let (mut begin, mut ids) = (begins, Together::default());
        for (end, id) in ends[line..].iter().zip(&mut ids) {
            let event = self.json.between(std::mem::replace(&mut begin, *end), *end);
            *id = event.and_then(|event| id_in(event, member));
        }
        let slots = self.tx.state.table(table).slots_of(&ids);
        for ((found, id), slot) in self.ahead.0.iter_mut().zip(ids).zip(slots) {
            *found = id.zip(slot);
        }
    }
}

/// How the member is spelled that is a table's id, quotes and colon and all, if it is one.
fn id_member(definition: &TableDef) -> Option<&str> {
    let [id] = definition.id[..] else { return None };
    let members = (0..).map_while(|place| definition.members.spelled(place));
    { members }.find(|(_, member)| member.only_field() == Some(id)).map(|(spelled, _)| spelled)
}

/// The id that an event seems to have; mostly it stands in front.
fn id_in<'de>(event: &'de str, member: &str) -> Option<Cell<'de>> {
    let is_first = event.strip_prefix('{')?.starts_with(member);
    let at = if is_first { 1 } else { event.find(member)? };
    let mut json = JsonReader::new(event);
    json.go(at + member.len());
    match json.peek().ok()? {
        Next::Number => match json.number().ok()? {
            Number::Int(id) => Some(Cell::Int(id)),
            _ => None,
        },
        Next::Text => match json.text().ok()? {
            std::borrow::Cow::Borrowed(id) => Some(Cell::Text(id)),
            std::borrow::Cow::Owned(_) => None,
        },
        _ => None,
    }
}
