//! Derives of Backwater. Their documentation stands with the traits that they implement, in the
//! crate `backwater`, which gives them out.

mod one_of;
mod options;
mod row;
mod table;
mod values;

use proc_macro::TokenStream;
use syn::{DeriveInput, parse_macro_input};

/// Makes a struct a table's row, or a part of one; see the trait `Table`.
#[proc_macro_derive(Table, attributes(table))]
pub fn table(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    table::derive(&input).unwrap_or_else(|error| error.to_compile_error()).into()
}

/// Makes a struct readable from a row of a query's result; see the trait `FromRow`.
#[proc_macro_derive(Row, attributes(row))]
pub fn row(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    row::derive(&input).unwrap_or_else(|error| error.to_compile_error()).into()
}

/// Makes an enum a link to one of several tables; see the trait `OneOf`.
#[proc_macro_derive(OneOf, attributes(one_of))]
pub fn one_of(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    one_of::derive(&input).unwrap_or_else(|error| error.to_compile_error()).into()
}

/// Makes an enum a set of texts, or of numbers; see the trait `Text`.
#[proc_macro_derive(Values, attributes(values))]
pub fn values(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    values::derive(&input).unwrap_or_else(|error| error.to_compile_error()).into()
}
