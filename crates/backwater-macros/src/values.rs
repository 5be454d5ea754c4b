//! `#[derive(Values)]`.

use proc_macro2::TokenStream;
use quote::quote;
use syn::{Data, DataEnum, DeriveInput, Error, Fields, Ident, LitInt, LitStr, Result, Token};

use crate::options::snake;

pub(crate) fn derive(input: &DeriveInput) -> Result<TokenStream> {
    let Data::Enum(of) = &input.data else {
        return Err(Error::new_spanned(&input.ident, "expected an enum"));
    };
    if !input.generics.params.is_empty() {
        return Err(Error::new_spanned(&input.generics, "the enum has no parameters"));
    }
    if let Some(numbers) = numbers(of)? {
        return Ok(of_numbers(&input.ident, &numbers));
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
                    return Err(Error::new_spanned(ident, format!("{text:?} is here twice")));
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
    let (text, found) = match other {
        Some(other) => (
            quote!(Self::#other(text) => text,),
            quote!(text => Self::#other(::core::convert::From::from(text)),),
        ),
        None => (quote!(), quote!(_ => return ::core::option::Option::None,)),
    };
    Ok(quote! {
        impl __backwater::made::Text for #ident {
            const TEXTS: &'static [&'static str] = &[#(#known),*];

            fn text(&self) -> &str {
                match self {
                    #(Self::#variants => #texts,)*
                    #text
                }
            }

            fn of_text(text: &str) -> ::core::option::Option<Self> {
                ::core::option::Option::Some(match text {
                    #(#texts => Self::#variants,)*
                    #found
                })
            }
        }

        impl<'s> __backwater::made::FieldType<'s> for #ident {
            const KIND: __backwater::made::Kind = <Self as __backwater::made::Text>::KIND;

            fn read(cell: __backwater::made::FieldCell<'s>) -> ::core::result::Result<Self, __backwater::made::FieldProblem> {
                <Self as __backwater::made::Text>::read_text(cell)
            }

            fn write(&self) -> __backwater::made::Written {
                __backwater::made::Written::Value(__backwater::made::Value::from(__backwater::made::Text::text(self)))
            }
        }

        impl ::core::convert::From<#ident> for __backwater::made::Value {
            fn from(value: #ident) -> Self {
                __backwater::made::Value::from(__backwater::made::Text::text(&value))
            }
        }
    })
}

/// An enum of numbers: its variants with these, and the one for all others.
struct Numbers<'e> {
    known: Vec<(&'e Ident, i64)>,
    other: Option<&'e Ident>,
}

/// The numbers of an enum, if it is one of numbers.
fn numbers(of: &DataEnum) -> Result<Option<Numbers<'_>>> {
    let (mut found, mut is_text) = (Numbers { known: Vec::new(), other: None }, None);
    for variant in &of.variants {
        let (mut number, mut is_other) = (None, false);
        for attribute in variant.attrs.iter().filter(|of| of.path().is_ident("values")) {
            attribute.parse_args_with(|input: syn::parse::ParseStream<'_>| {
                let minus =
                    input.peek(Token![-]).then(|| input.parse::<Token![-]>()).transpose()?;
                if input.peek(LitInt) {
                    let digits = input.parse::<LitInt>()?;
                    let read = digits.base10_parse::<i128>()?;
                    let read = if minus.is_some() { -read } else { read };
                    let fits = i64::try_from(read).map_err(|_| {
                        Error::new(digits.span(), "the number takes more than 64 bits")
                    });
                    number = Some(fits?);
                } else {
                    is_other = input.peek(Ident);
                    // What else stands here is looked at as a text.
                    input.parse::<TokenStream>()?;
                }
                Ok(())
            })?;
        }
        match (&variant.fields, number) {
            (Fields::Unit, Some(number)) => {
                if found.known.iter().any(|(_, known)| *known == number) {
                    return Err(Error::new_spanned(
                        &variant.ident,
                        format!("{number} is here twice"),
                    ));
                }
                found.known.push((&variant.ident, number));
            }
            (Fields::Unnamed(fields), None)
                if is_other && fields.unnamed.len() == 1 && found.other.is_none() =>
            {
                found.other = Some(&variant.ident);
            }
            _ => is_text = Some(variant),
        }
    }
    match is_text {
        _ if found.known.is_empty() => Ok(None),
        Some(variant) => {
            let message = "the other variants are numbers: give it one too, as in #[values(3)]";
            Err(Error::new_spanned(variant, message))
        }
        None => Ok(Some(found)),
    }
}

fn of_numbers(ident: &Ident, of: &Numbers<'_>) -> TokenStream {
    let (variants, numbers): (Vec<_>, Vec<_>) = of.known.iter().copied().unzip();
    let kind = match of.other {
        Some(_) => quote!(__backwater::made::Kind::Int),
        None => quote!(__backwater::made::Kind::OneOfNumbers(&[#(#numbers),*])),
    };
    let (text, found) = match of.other {
        Some(other) => {
            (quote!(#ident::#other(number) => *number,), quote!(number => #ident::#other(number),))
        }
        None => (
            quote!(),
            quote!(_ => return ::core::result::Result::Err(__backwater::made::FieldProblem::Unfit),),
        ),
    };
    quote! {
        impl ::core::convert::From<&#ident> for i64 {
            fn from(value: &#ident) -> i64 {
                match value {
                    #(#ident::#variants => #numbers,)*
                    #text
                }
            }
        }

        impl<'s> __backwater::made::FieldType<'s> for #ident {
            const KIND: __backwater::made::Kind = #kind;

            fn read(cell: __backwater::made::FieldCell<'s>) -> ::core::result::Result<Self, __backwater::made::FieldProblem> {
                let number = <i64 as __backwater::made::FieldType<'s>>::read(cell)?;
                ::core::result::Result::Ok(match number {
                    #(#numbers => #ident::#variants,)*
                    #found
                })
            }

            fn write(&self) -> __backwater::made::Written {
                __backwater::made::Written::Value(__backwater::made::Value::Int(self.into()))
            }
        }

        impl ::core::convert::From<#ident> for __backwater::made::Value {
            fn from(value: #ident) -> Self {
                __backwater::made::Value::Int((&value).into())
            }
        }
    }
}
