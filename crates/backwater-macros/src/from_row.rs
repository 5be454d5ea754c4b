//! `#[derive(FromRow)]`.

use proc_macro2::TokenStream;
use quote::quote;
use syn::{DeriveInput, Error, Result};

use crate::options::{fields, name_of, text};

pub(crate) fn derive(input: &DeriveInput) -> Result<TokenStream> {
    if !input.generics.params.is_empty() {
        let message = "a row's struct has no parameters: it owns its values";
        return Err(Error::new_spanned(&input.generics, message));
    }
    let (mut places, mut reads) = (Vec::new(), Vec::new());
    for (number, field) in fields(input)?.into_iter().enumerate() {
        let mut name = name_of(field);
        for attribute in field.attrs.iter().filter(|of| of.path().is_ident("row")) {
            attribute.parse_nested_meta(|meta| {
                if !meta.path.is_ident("name") {
                    return Err(meta.error("expected name"));
                }
                name = text(&meta)?.value();
                Ok(())
            })?;
        }
        let (ident, ty) = (&field.ident, &field.ty);
        places.push(quote!(columns.place::<#ty>(#name)?));
        reads
            .push(quote!(#ident: __backwater::made::value::<#ty>(values, places[#number], #name)?));
    }
    let ident = &input.ident;
    Ok(quote! {
        impl __backwater::made::FromRow for #ident {
            fn places(columns: &__backwater::made::ResultColumns<'_>) -> ::core::result::Result<::std::boxed::Box<[usize]>, __backwater::made::Error> {
                ::core::result::Result::Ok(::std::boxed::Box::new([#(#places),*]))
            }

            fn read(values: &[__backwater::made::Value], places: &[usize]) -> ::core::result::Result<Self, __backwater::made::Error> {
                ::core::result::Result::Ok(Self { #(#reads),* })
            }
        }
    })
}
