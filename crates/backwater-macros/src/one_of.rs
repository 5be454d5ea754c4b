//! `#[derive(OneOf)]`.

use proc_macro2::TokenStream;
use quote::{quote, quote_spanned};
use syn::spanned::Spanned;
use syn::{Data, DeriveInput, Error, Fields, GenericParam, LitStr, Result};

pub(crate) fn derive(input: &DeriveInput) -> Result<TokenStream> {
    let Data::Enum(of) = &input.data else {
        return Err(Error::new_spanned(&input.ident, "expected an enum"));
    };
    if of.variants.is_empty() {
        return Err(Error::new_spanned(&input.ident, "a link points at one table at least"));
    }
    let (generics, args, lent) = match input.generics.params.iter().collect::<Vec<_>>().as_slice() {
        [] => (quote!(<'s>), quote!(), quote!('s)),
        [GenericParam::Lifetime(of)] => {
            let of = &of.lifetime;
            (quote!(<#of>), quote!(<#of>), quote!(#of))
        }
        _ => {
            let message = "the enum has no parameters but one lifetime, of the texts that it lends";
            return Err(Error::new_spanned(&input.generics, message));
        }
    };
    let (mut variants, mut links, mut tables) = (Vec::new(), Vec::new(), Vec::new());
    for variant in &of.variants {
        let Fields::Unnamed(fields) = &variant.fields else {
            return Err(Error::new_spanned(variant, "expected a variant such as Port(Link<Port>)"));
        };
        let [link] = fields.unnamed.iter().collect::<Vec<_>>()[..] else {
            return Err(Error::new_spanned(variant, "expected a variant such as Port(Link<Port>)"));
        };
        let ty = &link.ty;
        let kind = quote!(<#ty as ::backwater::FieldType<#lent>>::KIND);
        let table = quote_spanned! {ty.span()=> {
            assert!(
                matches!(#kind, ::backwater::made::Kind::Link(_)),
                "each variant holds a Link, or a Found to nest the row"
            );
            ::backwater::made::table_of(#kind)
        }};
        let mut name = None;
        for attribute in variant.attrs.iter().filter(|of| of.path().is_ident("one_of")) {
            name = Some(attribute.parse_args::<LitStr>()?);
        }
        tables.push(match name {
            Some(name) => quote!((#name, #table)),
            None => quote!((#table, #table)),
        });
        variants.push(&variant.ident);
        links.push(ty);
    }
    let places = 0..variants.len();
    let numbers = places.clone();
    let ident = &input.ident;
    Ok(quote! {
        impl #generics ::backwater::OneOf<#lent> for #ident #args {
            const TABLES: &'static [(&'static str, &'static str)] = &[#(#tables),*];

            fn target(&self) -> ::core::option::Option<(&'static str, ::backwater::RowId)> {
                match self {
                    #(Self::#variants(to) => ::core::option::Option::Some((
                        <Self as ::backwater::OneOf<#lent>>::TABLES[#places].1,
                        ::backwater::made::id_of::<#links>(to)?,
                    )),)*
                }
            }
        }

        impl #generics ::backwater::FieldType<#lent> for #ident #args {
            const KIND: ::backwater::made::Kind =
                ::backwater::made::Kind::LinkToOneOf(<Self as ::backwater::OneOf<#lent>>::TABLES);

            const NESTED: ::core::option::Option<fn() -> ::std::vec::Vec<&'static ::backwater::Shape>> =
                if #(<#links as ::backwater::FieldType<#lent>>::NESTED.is_some())||* {
                    ::core::option::Option::Some(|| {
                        let all = [#(<#links as ::backwater::FieldType<#lent>>::NESTED),*];
                        all.into_iter().flatten().flat_map(|nested| nested()).collect()
                    })
                } else {
                    ::core::option::Option::None
                };

            fn read(cell: ::backwater::FieldCell<#lent>) -> ::core::result::Result<Self, ::backwater::Lack> {
                match ::backwater::made::variant(cell, <Self as ::backwater::OneOf<#lent>>::TABLES)? {
                    #(#numbers => <#links as ::backwater::FieldType<#lent>>::read(cell).map(Self::#variants),)*
                    _ => ::core::result::Result::Err(::backwater::Lack::Unfit),
                }
            }

            fn write(&self) -> ::backwater::Written {
                match ::backwater::OneOf::target(self) {
                    ::core::option::Option::Some((table, id)) => ::backwater::Written::LinkTo(table, id),
                    ::core::option::Option::None => ::backwater::Written::Nothing,
                }
            }
        }
    })
}
