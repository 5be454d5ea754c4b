//! `#[derive(Values)]`.

use proc_macro2::TokenStream;
use quote::quote;
use syn::{Data, DeriveInput, Error, Fields, LitStr, Result};

use crate::options::snake;

pub(crate) fn derive(input: &DeriveInput) -> Result<TokenStream> {
    let Data::Enum(of) = &input.data else {
        return Err(Error::new_spanned(&input.ident, "expected an enum"));
    };
    if !input.generics.params.is_empty() {
        return Err(Error::new_spanned(&input.generics, "the enum has no parameters"));
    }
    let (mut texts, mut variants, mut other): (Vec<String>, Vec<_>, Option<_>) = Default::default();
    for variant in &of.variants {
        let (mut text, mut is_other) = (None, false);
        for attribute in variant.attrs.iter().filter(|of| of.path().is_ident("values")) {
            attribute.parse_args_with(|input: syn::parse::ParseStream<'_>| {
                if input.peek(LitStr) {
                    text = Some(input.parse::<LitStr>()?.value());
                } else if input.parse::<syn::Ident>()? == "other" {
                    is_other = true;
                } else {
                    return Err(input.error("expected a text, or `other`"));
                }
                Ok(())
            })?;
        }
        let ident = &variant.ident;
        match (&variant.fields, is_other) {
            (Fields::Unit, false) => {
                let text = text.unwrap_or_else(|| snake(&ident.to_string()));
                if texts.contains(&text) {
                    return Err(Error::new_spanned(ident, format!("{text:?} stands here twice")));
                }
                texts.push(text);
                variants.push(ident);
            }
            (Fields::Unnamed(fields), true) if fields.unnamed.len() == 1 && other.is_none() => {
                other = Some(ident);
            }
            _ => {
                let message =
                    "expected a variant without fields, or one `#[values(other)] Other(String)`";
                return Err(Error::new_spanned(variant, message));
            }
        }
    }
    let ident = &input.ident;
    let known = if other.is_some() { Vec::new() } else { texts.clone() };
    let (told, found) = match other {
        Some(other) => (
            quote!(Self::#other(text) => text,),
            quote!(text => Self::#other(::core::convert::From::from(text)),),
        ),
        None => (quote!(), quote!(_ => return ::core::option::Option::None,)),
    };
    Ok(quote! {
        impl ::backwater::Text for #ident {
            const TEXTS: &'static [&'static str] = &[#(#known),*];

            fn text(&self) -> &str {
                match self {
                    #(Self::#variants => #texts,)*
                    #told
                }
            }

            fn of_text(text: &str) -> ::core::option::Option<Self> {
                ::core::option::Option::Some(match text {
                    #(#texts => Self::#variants,)*
                    #found
                })
            }
        }

        impl<'s> ::backwater::FieldType<'s> for #ident {
            const KIND: ::backwater::made::Kind = <Self as ::backwater::Text>::KIND;

            fn read(cell: ::backwater::FieldCell<'s>) -> ::core::result::Result<Self, ::backwater::Lack> {
                <Self as ::backwater::Text>::read_text(cell)
            }

            fn write(&self) -> ::backwater::Written {
                ::backwater::Written::Value(::backwater::Value::from(::backwater::Text::text(self)))
            }
        }

        impl ::backwater::RowValue for #ident {
            const KIND: ::backwater::made::Kind = <Self as ::backwater::Text>::KIND;

            fn of_value(value: &::backwater::Value) -> ::core::option::Option<Self> {
                value.as_str().and_then(<Self as ::backwater::Text>::of_text)
            }
        }

        impl ::core::convert::From<#ident> for ::backwater::Value {
            fn from(value: #ident) -> Self {
                ::backwater::Value::from(::backwater::Text::text(&value))
            }
        }
    })
}
