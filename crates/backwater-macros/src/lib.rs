//! Derives of Backwater. Their documentation stands with the traits that they implement, in the
//! crate `backwater`, which gives them out.

mod from_row;
mod one_of;
mod options;
mod table;
mod values;

use proc_macro::TokenStream;
use syn::{DeriveInput, parse_macro_input};

/// Makes a struct a table's row, or a part of one; see the trait `Table`.
#[proc_macro_derive(Table, attributes(table))]
pub fn table(input: TokenStream) -> TokenStream {
    derive(&parse_macro_input!(input as DeriveInput), "table", table::derive)
}

/// Makes a struct readable from a row of a query's result; see the trait `FromRow`.
#[proc_macro_derive(FromRow, attributes(row))]
pub fn from_row(input: TokenStream) -> TokenStream {
    derive(&parse_macro_input!(input as DeriveInput), "row", from_row::derive)
}

/// Makes an enum a link to one of several tables; see the trait `OneOf`.
#[proc_macro_derive(OneOf, attributes(one_of))]
pub fn one_of(input: TokenStream) -> TokenStream {
    derive(&parse_macro_input!(input as DeriveInput), "one_of", one_of::derive)
}

/// Makes an enum a set of texts, or of numbers; see the trait `Text`.
#[proc_macro_derive(Values, attributes(values))]
pub fn values(input: TokenStream) -> TokenStream {
    derive(&parse_macro_input!(input as DeriveInput), "values", values::derive)
}

/// What a derive writes, in a block that knows the library by a name of its own.
fn derive(
    input: &DeriveInput,
    attribute: &str,
    write: impl Fn(&DeriveInput) -> syn::Result<proc_macro2::TokenStream>,
) -> TokenStream {
    let written = options::library(input, attribute).and_then(|library| {
        let written = write(input)?;
        Ok(quote::quote! {
            const _: () = {
                use #library as __backwater;
                #written
            };
        })
    });
    written.unwrap_or_else(|error| error.to_compile_error()).into()
}
