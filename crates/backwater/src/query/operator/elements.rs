//! The elements of JSON values as rows: `json_each()` in FROM.

use smallvec::SmallVec;

#[cfg(feature = "remote")]
use crate::query::expr::ColumnNo;
use crate::query::expr::scalar::Scalar;
use crate::query::expr::{Expr, json};
use crate::query::operator::join::TupleDelta;
use crate::query::operator::rows::{
    KeptRow, MadeRows, RowEdits, RowOperator, RowsOfTuple, RowsState,
};
use crate::query::operator::view::View;
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::plan::{ElementColumn, Elements};
use crate::table::Slot;

impl ElementColumn {
    pub(in crate::query) const ALL: [(&str, ElementColumn); 6] = [
        ("key", ElementColumn::Key),
        ("value", ElementColumn::Value),
        ("type", ElementColumn::Type),
        ("atom", ElementColumn::Atom),
        ("fullkey", ElementColumn::FullKey),
        ("path", ElementColumn::Path),
    ];

    fn name(self) -> &'static str {
        let known = Self::ALL.iter().find(|(_, other)| *other == self);
        known.map_or("value as JSON", |(name, _)| *name)
    }

    fn of(self, element: &json::Element<'_>, path: &str) -> Scalar<'static> {
        match self {
            ElementColumn::Key => match &element.name {
                json::ElementName::None => Scalar::Null,
                json::ElementName::Place(place) => Scalar::Int(*place as i64),
                json::ElementName::Member(name) => Scalar::Text((**name).into()),
            },
            ElementColumn::Value => element.value.as_sql(),
            ElementColumn::Json => element.value.as_sql_json(),
            ElementColumn::Type => Scalar::Text(element.value.type_name().into()),
            ElementColumn::Atom if element.value.has_elements() => Scalar::Null,
            ElementColumn::Atom => element.value.as_sql(),
            ElementColumn::FullKey => Scalar::Text(element.name.behind(path).into()),
            ElementColumn::Path => Scalar::Text(path.into()),
        }
    }
}

impl RowsOfTuple for Elements {
    fn rows_of(
        &self,
        view: &View<'_>,
        params: &[Scalar<'static>],
        tuple: &[Slot],
        each: &mut dyn FnMut(KeptRow),
    ) {
        let row = view.row(tuple);
        let path = match &self.path {
            None => Some("$".into()),
            Some(path) => path.eval(&row, params).to_text().map(|path| path.into_owned()),
        };
        let json = self.json.eval(&row, params);
        let (Some(path), Some(json)) = (path, json.to_text()) else { return };
        let Some(whole) = json::find_path(&json, &path) else { return };
        for (place, element) in whole.each_element().into_iter().enumerate() {
            let mut values = SmallVec::new();
            view.each_of_key(tuple, |part| values.push(part.into_owned()));
            values.push(Scalar::Int(place as i64));
            let keys = values.len();
            values.extend(self.columns.iter().map(|column| column.of(&element, &path)));
            each(KeptRow::new(values, keys));
        }
    }
}

impl RowOperator for Elements {
    fn compute(&self, view: &View<'_>, params: &[Scalar<'static>], empty: bool) -> MadeRows {
        self.all_rows(view, params, empty)
    }

    fn apply(
        &self,
        _state: &mut RowsState,
        views: (&View<'_>, &View<'_>),
        params: &[Scalar<'static>],
        tuples: &[TupleDelta],
    ) -> Option<RowEdits> {
        Some(self.changed_rows(views, params, tuples))
    }

    fn each_expr<'e>(&'e self, each: &mut dyn FnMut(&'e Expr)) {
        each(&self.json);
        self.path.iter().for_each(each);
    }

    fn key_len(&self, of_tuple: usize) -> usize {
        of_tuple + 1
    }

    fn is_by_tuple(&self) -> bool {
        true
    }

    #[cfg(feature = "remote")]
    fn column_of(&self, value: usize) -> Option<ColumnNo> {
        self.keys.get(value).copied()
    }

    fn value_name(&self, names: &PlanNames<'_>, value: usize, keys: usize) -> String {
        let column = value.checked_sub(keys).and_then(|place| self.columns.get(place));
        match (column, self.keys.get(value)) {
            (Some(column), _) => column.name().to_owned(),
            (None, Some(key)) => names.column(*key),
            (None, None) => "place".to_owned(),
        }
    }

    fn keeps(&self) -> &'static str {
        "each element's place and what is read of it"
    }

    fn ties(&self) -> Option<&'static str> {
        Some("their places")
    }

    fn describe(&self, names: &PlanNames<'_>) -> Option<Operator> {
        let path = self.path.as_ref().map(|path| format!(" at {}", names.text_of(path)));
        let columns: Vec<&str> = self.columns.iter().map(|column| column.name()).collect();
        Some(
            Operator::new("elements", names.text_of(&self.json) + &path.unwrap_or_default())
                .fact("computes", columns.join(", "))
                .fact("keeps", "nothing")
                .fact("follows", "takes the JSON of changed rows apart, as it was and as it is"),
        )
    }
}
