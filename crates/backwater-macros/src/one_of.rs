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
        let kind = quote!(<#ty as __backwater::made::FieldType<#lent>>::KIND);
        let table = quote_spanned! {ty.span()=> {
            assert!(
                matches!(#kind, __backwater::made::Kind::Link(_)),
                "each variant holds a Link, or a Found to nest the row"
            );
            __backwater::made::table_of(#kind)
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
        impl #generics __backwater::made::OneOf<#lent> for #ident #args {
            const TABLES: &'static [(&'static str, &'static str)] = &[#(#tables),*];

            fn target(&self) -> ::core::option::Option<(&'static str, __backwater::made::RowId)> {
                match self {
                    #(Self::#variants(to) => ::core::option::Option::Some((
                        <Self as __backwater::made::OneOf<#lent>>::TABLES[#places].1,
                        __backwater::made::id_of::<#links>(to)?,
                    )),)*
                }
            }
        }

        impl #generics __backwater::made::FieldType<#lent> for #ident #args {
            const KIND: __backwater::made::Kind =
                __backwater::made::Kind::LinkToOneOf(<Self as __backwater::made::OneOf<#lent>>::TABLES);

            const NESTED: ::core::option::Option<fn() -> ::std::vec::Vec<&'static __backwater::made::Shape>> =
                if #(<#links as __backwater::made::FieldType<#lent>>::NESTED.is_some())||* {
                    ::core::option::Option::Some(|| {
                        let all = [#(<#links as __backwater::made::FieldType<#lent>>::NESTED),*];
                        all.into_iter().flatten().flat_map(|nested| nested()).collect()
                    })
                } else {
                    ::core::option::Option::None
                };

            fn read(cell: __backwater::made::FieldCell<#lent>) -> ::core::result::Result<Self, __backwater::made::FieldProblem> {
                match __backwater::made::variant(cell, <Self as __backwater::made::OneOf<#lent>>::TABLES)? {
                    #(#numbers => <#links as __backwater::made::FieldType<#lent>>::read(cell).map(Self::#variants),)*
                    _ => ::core::result::Result::Err(__backwater::made::FieldProblem::Unfit),
                }
            }

            fn write(&self) -> __backwater::made::Written {
                match __backwater::made::OneOf::target(self) {
                    ::core::option::Option::Some((table, id)) => __backwater::made::Written::LinkTo(table, id),
                    ::core::option::Option::None => __backwater::made::Written::Nothing,
                }
            }
        }
    })
}
