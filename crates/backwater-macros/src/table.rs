//! `#[derive(Table)]`.

use proc_macro2::TokenStream;
use quote::{format_ident, quote, quote_spanned};
use syn::spanned::Spanned;
use syn::{
    DeriveInput, Error, Field, GenericArgument, GenericParam, Ident, LitStr, Path, PathArguments,
    Result, Type,
};

use crate::options::{
    all_assigned, assigned, fields, flag, name_of, one_of, quoted, snake, text, texts,
};

/// What is said of the struct.
#[derive(Default)]
struct Whole {
    name: Option<LitStr>,
    one_row: bool,
    /// The struct whose table this has a part of.
    of: Option<Path>,
    /// Keys beside the id, as arrays of TOML.
    unique: Vec<String>,
    /// Lines of TOML.
    options: Vec<String>,
}

/// One field, with what is said of it.
struct Part<'f> {
    ident: &'f Ident,
    ty: &'f Type,
    name: String,
    id: Option<IdPart>,
    default: bool,
    options: Vec<String>,
}

/// A field of the id.
enum IdPart {
    Whole,
    Text,
    /// A text that must be copied out of its owner.
    OwnedText,
    /// The row's own `Id`, of that type.
    Own {
        is_text: bool,
    },
    /// A type of one's own that writes a value of that type.
    Other {
        is_text: bool,
    },
    /// A link to rows of that struct.
    Link(Box<Type>),
}

pub(crate) fn derive(input: &DeriveInput) -> Result<TokenStream> {
    let whole = whole(input)?;
    let parts = fields(input)?.into_iter().map(part).collect::<Result<Vec<_>>>()?;
    check(input, &whole, &parts)?;
    let ident = &input.ident;
    let lifetime = match input.generics.params.iter().collect::<Vec<_>>().as_slice() {
        [] => None,
        [GenericParam::Lifetime(of)] => Some(of.lifetime.clone()),
        _ => {
            let message =
                "a table's struct has no parameters but one lifetime, of the texts that it lends";
            return Err(Error::new_spanned(&input.generics, message));
        }
    };
    let (generics, args) = match &lifetime {
        Some(of) => (quote!(<#of>), quote!(<#of>)),
        None => (quote!(), quote!()),
    };
    let (read_generics, lent) = match &lifetime {
        Some(of) => (quote!(<#of>), quote!(#of)),
        None => (quote!(<'s>), quote!('s)),
    };
    let cell = lifetime.as_ref().map_or(quote!('static), |of| quote!(#of));

    let shapes = parts.iter().map(|part| {
        let (name, ty, options) = (&part.name, part.ty, part.options.join(", "));
        let kind = match &part.id {
            Some(IdPart::Own { is_text: true }) => quote!(__backwater::made::Kind::Text),
            Some(IdPart::Own { is_text: false }) => quote!(__backwater::made::Kind::Int),
            _ => quote!(<#ty as __backwater::made::FieldType<#cell>>::KIND),
        };
        let nested = quote!(<#ty as __backwater::made::FieldType<#cell>>::NESTED);
        quote!(__backwater::made::FieldShape { name: #name, kind: #kind, options: #options, nested: #nested })
    });
    let ids = parts.iter().filter(|part| part.id.is_some()).map(|part| &part.name);
    let (table, id, of) = match &whole.of {
        Some(of) => (
            quote!(<#of as __backwater::made::Fields>::TABLE),
            quote!(<#of as __backwater::made::Fields>::SHAPE.id),
            quote!(#of),
        ),
        None => {
            let name = whole.name.as_ref().map_or_else(|| snake(&ident.to_string()), LitStr::value);
            (quote!(#name), quote!(&[#(#ids),*]), quote!(#ident))
        }
    };
    let options = whole.options.join("\n");
    let writes = parts.iter().map(|part| {
        let (name, field) = (&part.name, part.ident);
        quote!(writes.put(#name, &self.#field);)
    });
    let reads = read(&whole, &parts);
    let mut out = quote! {
        impl #generics __backwater::made::Fields for #ident #args {
            type Of = #of;

            const TABLE: &'static str = #table;

            const SHAPE: &'static __backwater::made::Shape = &__backwater::made::Shape {
                table: <Self as __backwater::made::Fields>::TABLE,
                id: #id,
                options: #options,
                fields: &[#(#shapes),*],
            };

            fn write(&self, writes: &mut __backwater::made::FieldWrites) {
                #(#writes)*
            }
        }

        impl #read_generics __backwater::made::ReadTable<#lent> for #ident #args {
            #[inline]
            fn read(cells: &mut __backwater::made::Cells<'_, #lent>) -> ::core::option::Option<Self> {
                #reads
            }
        }
    };
    if whole.of.is_none() {
        out.extend(declaration(input, &whole, &parts));
    }
    Ok(out)
}

/// What only the struct has that declares the table.
fn declaration(input: &DeriveInput, whole: &Whole, parts: &[Part<'_>]) -> TokenStream {
    let (ident, vis) = (&input.ident, &input.vis);
    let ids: Vec<&Part<'_>> = parts.iter().filter(|part| part.id.is_some()).collect();
    let keys = ids.iter().map(|part| match &part.id {
        Some(IdPart::Whole | IdPart::Own { is_text: false } | IdPart::Other { is_text: false }) => {
            quote!(i64)
        }
        Some(IdPart::Link(to)) => quote!(__backwater::made::Id<#to>),
        _ => quote!(::std::sync::Arc<str>),
    });
    let values = ids.iter().map(|part| {
        let field = part.ident;
        match &part.id {
            Some(IdPart::Whole) => quote!(i64::from(self.#field)),
            Some(IdPart::OwnedText) => quote!(::std::sync::Arc::<str>::from(&*self.#field)),
            Some(IdPart::Own { .. }) => quote!(self.#field.key().clone()),
            Some(IdPart::Other { is_text: true }) => quote!(__backwater::made::text(&self.#field)),
            Some(IdPart::Other { is_text: false }) => {
                quote!(__backwater::made::number(&self.#field))
            }
            Some(IdPart::Link(_)) => quote!((*self.#field).clone()),
            _ => quote!(self.#field.clone()),
        }
    });
    let (key, value) = match ids.len() {
        0 => (quote!(()), quote!(())),
        1 => (quote!(#(#keys)*), quote!(#(#values)*)),
        _ => (quote!((#(#keys),*)), quote!((#(#values),*))),
    };
    let constants = parts.iter().map(|part| {
        let (name, ty) = (&part.name, part.ty);
        let constant =
            format_ident!("{}", part.ident.to_string().trim_start_matches("r#").to_uppercase());
        let docs = format!("The field `{name}`.");
        quote! {
            #[doc = #docs]
            #[allow(dead_code)]
            #vis const #constant: __backwater::made::Field<#ident, #ty> = __backwater::made::Field::new(#name);
        }
    });
    let checks = parts.iter().map(|part| {
        let ty = part.ty;
        let nests = "a struct that declares a table holds links; one that nests rows is `#[table(of = …)]` another one";
        let of_type = match part.id {
            Some(IdPart::Other { is_text: true }) => quote_spanned!(ty.span()=> assert!(
                matches!(KIND, __backwater::made::Kind::Text | __backwater::made::Kind::OneOf(_)),
                "the type of the id holds no text"
            );),
            Some(IdPart::Other { is_text: false }) => quote_spanned!(ty.span()=> assert!(
                matches!(KIND, __backwater::made::Kind::Int | __backwater::made::Kind::OneOfNumbers(_)),
                "the type of the id holds no whole number"
            );),
            _ => quote!(),
        };
        quote_spanned! {ty.span()=>
            const _: () = {
                #[allow(dead_code)]
                const KIND: __backwater::made::Kind = <#ty as __backwater::made::FieldType<'static>>::KIND;
                assert!(<#ty as __backwater::made::FieldType<'static>>::NESTED.is_none(), #nests);
                #of_type
            };
        }
    });
    let one_row = whole.one_row.then(|| quote!(impl __backwater::made::OneRowTable for #ident {}));
    quote! {
        impl __backwater::made::Table for #ident {
            type Key = #key;

            fn row_id(&self) -> __backwater::made::Id<Self> {
                __backwater::made::Id::new(#value)
            }
        }

        impl #ident {
            #(#constants)*
        }

        #(#checks)*

        #one_row
    }
}

fn read(whole: &Whole, parts: &[Part<'_>]) -> TokenStream {
    let fields: Vec<_> = parts.iter().map(|part| part.ident).collect();
    // A field may be called like anything that stands around it here.
    let locals: Vec<_> = (0..parts.len()).map(|place| format_ident!("field_{place}")).collect();
    let reads = parts.iter().zip(&locals).enumerate().map(|(place, (part, local))| {
        let (field, ty) = (part.ident, part.ty);
        if whole.one_row {
            quote!(let #local = ::core::option::Option::Some(
                cells.field_or::<#ty>(#place, || otherwise.#field)
            );)
        } else if part.default {
            quote!(let #local = cells.field_or_default::<#ty>(#place);)
        } else {
            quote!(let #local = cells.field::<#ty>(#place);)
        }
    });
    let otherwise =
        whole.one_row.then(|| quote!(let otherwise: Self = ::core::default::Default::default();));
    quote! {
        #otherwise
        #(#reads)*
        ::core::option::Option::Some(Self { #(#fields: #locals?),* })
    }
}

fn whole(input: &DeriveInput) -> Result<Whole> {
    let mut whole = Whole::default();
    for attribute in input.attrs.iter().filter(|of| of.path().is_ident("table")) {
        attribute.parse_nested_meta(|meta| {
            let option = meta.path.get_ident().map(ToString::to_string).unwrap_or_default();
            match option.as_str() {
                "name" => whole.name = Some(text(&meta)?),
                // See `in_crate`.
                "crate" => drop(text(&meta)?),
                "one_row" => whole.one_row = flag(&meta)?,
                "of" => whole.of = Some(meta.value()?.parse()?),
                "persist" => whole.options.push(format!("persist = {}", flag(&meta)?)),
                "names" => {
                    let known = ["camelCase", "PascalCase", "kebab-case", "snake_case"];
                    whole.options.push(assigned("names", &one_of(&meta, &known)?));
                }
                "unknown" if meta.input.peek(syn::token::Paren) => meta.parse_nested_meta(|meta| {
                    if !meta.path.is_ident("keep") {
                        return Err(meta.error("expected keep"));
                    }
                    let field = quoted(&text(&meta)?.value());
                    whole.options.push(format!("unknown = {{ keep = {field} }}"));
                    Ok(())
                })?,
                "unknown" => whole.options.push(assigned("unknown", &one_of(&meta, &["ignore", "error"])?)),
                "was" => whole.options.push(all_assigned(&option, &texts(&meta)?)),
                "unique" => {
                    let fields: Vec<String> =
                        texts(&meta)?.iter().map(|text| quoted(&text.value())).collect();
                    whole.unique.push(format!("[{}]", fields.join(", ")));
                }
                "version" | "tombstone" | "resource" | "expires_after" => whole.options.push(assigned(&option, &text(&meta)?)),
                _ => {
                    return Err(meta.error(
                        "expected name, one_row, of, persist, names, version, unique, unknown, tombstone, resource, was, expires_after or crate",
                    ));
                }
            }
            Ok(())
        })?;
    }
    if !whole.unique.is_empty() {
        whole.options.push(format!("unique = [{}]", whole.unique.join(", ")));
    }
    Ok(whole)
}

fn part(field: &Field) -> Result<Part<'_>> {
    let ident =
        field.ident.as_ref().ok_or_else(|| Error::new_spanned(field, "the field needs a name"))?;
    if let Some(reason) = refused(&field.ty) {
        return Err(Error::new_spanned(&field.ty, reason));
    }
    let mut part = Part {
        ident,
        ty: &field.ty,
        name: name_of(field),
        id: None,
        default: false,
        options: Vec::new(),
    };
    for attribute in field.attrs.iter().filter(|of| of.path().is_ident("table")) {
        attribute.parse_nested_meta(|meta| {
            let option = meta.path.get_ident().map(ToString::to_string).unwrap_or_default();
            match option.as_str() {
                "id" => {
                    let kind = meta.input.peek(syn::Token![=]).then(|| one_of(&meta, &["int", "text"]));
                    part.id = Some(id_part(&field.ty, kind.transpose()?.map(|kind| kind.value()))?);
                }
                "name" => part.name = text(&meta)?.value(),
                "default" => part.default = true,
                "persist" => part.options.push(format!("persist = {}", flag(&meta)?)),
                "required" => part.options.push(format!("required = {}", flag(&meta)?)),
                "on_delete" => {
                    let known = ["keep", "cascade", "set null", "restrict"];
                    part.options.push(assigned("on_delete", &one_of(&meta, &known)?));
                }
                "was" => part.options.push(all_assigned(&option, &texts(&meta)?)),
                "from" => part.options.push(all_assigned(&option, &texts(&meta)?)),
                "unit" => part.options.push(assigned("unit", &one_of(&meta, &["seconds", "milliseconds"])?)),
                "other_types" if meta.input.peek(syn::token::Paren) => meta.parse_nested_meta(|meta| {
                    if !meta.path.is_ident("to") {
                        return Err(meta.error("expected to"));
                    }
                    let table = quoted(&text(&meta)?.value());
                    part.options.push(format!("other_types = {{ to = {table} }}"));
                    Ok(())
                })?,
                "other_types" => part.options.push(assigned(&option, &one_of(&meta, &["error", "skip"])?)),
                "to" | "by" | "record" | "link_table" | "type_field" | "type_member" => part.options.push(assigned(&option, &text(&meta)?)),
                _ => {
                    return Err(meta.error(
                        "expected id, name, default, persist, required, from, unit, to, by, on_delete, record, other_types, link_table, type_field, type_member or was",
                    ));
                }
            }
            Ok(())
        })?;
    }
    Ok(part)
}

/// The last name of a type's path, and its first argument.
fn head(ty: &Type) -> Option<(String, Option<Type>)> {
    let Type::Path(path) = ty else { return None };
    let last = path.path.segments.last()?;
    let argument = match &last.arguments {
        PathArguments::AngleBracketed(of) => of.args.iter().find_map(|argument| match argument {
            GenericArgument::Type(ty) => Some(ty.clone()),
            _ => None,
        }),
        _ => None,
    };
    Some((last.ident.to_string(), argument))
}

/// Why no field can be of a type, where its name says so: the compiler would say it at each use.
fn refused(ty: &Type) -> Option<String> {
    const NUMBERS: [&str; 10] =
        ["i8", "i16", "i128", "isize", "u8", "u16", "u64", "u128", "usize", "f32"];
    const PLAIN: [&str; 6] = ["i64", "i32", "u32", "f64", "bool", "String"];
    let (name, argument) = head(ty)?;
    match (name.as_str(), argument) {
        ("Option", Some(ty)) => refused(&ty),
        ("Vec", Some(ty)) => {
            let (name, _) = head(&ty)?;
            let is_plain = NUMBERS.iter().chain(&PLAIN).any(|plain| *plain == name);
            is_plain.then(|| format!(
                "a list of {name} cannot be a field of a table: keep a list of plain values as Json, links to rows of one table as Links<Table>, and links to rows of several as a Vec of an enum that derives OneOf"
            ))
        }
        (name, None) if NUMBERS.contains(&name) => Some(format!(
            "a field of a table cannot be of type {name}: whole numbers are i64, i32 or u32, other numbers f64"
        )),
        _ => None,
    }
}

fn id_part(ty: &Type, kind: Option<String>) -> Result<IdPart> {
    let (name, argument) = head(ty).unwrap_or_default();
    match (name.as_str(), argument, kind.as_deref()) {
        ("i64" | "i32" | "u32", _, None | Some("int")) => Ok(IdPart::Whole),
        ("String" | "Box", _, None | Some("text")) => Ok(IdPart::OwnedText),
        ("Arc", _, None | Some("text")) => Ok(IdPart::Text),
        ("Id", _, Some(kind)) => Ok(IdPart::Own { is_text: kind == "text" }),
        ("Id", _, None) => Err(Error::new_spanned(
            ty,
            "say which type the id is of: id = \"int\" or id = \"text\"",
        )),
        ("Link", Some(to), None) => Ok(IdPart::Link(Box::new(to))),
        ("i64" | "i32" | "u32" | "String" | "Box" | "Arc" | "Link" | "Option", ..) | ("", ..) => {
            Err(Error::new_spanned(
                ty,
                "an id is an i64, a String, an Id of the struct itself or a Link",
            ))
        }
        (_, _, Some(kind)) => Ok(IdPart::Other { is_text: kind == "text" }),
        _ => Err(Error::new_spanned(
            ty,
            "an id is an i64, a String, an Id of the struct itself or a Link; of another type say which it holds: id = \"int\" or id = \"text\"",
        )),
    }
}

fn check(input: &DeriveInput, whole: &Whole, parts: &[Part<'_>]) -> Result<()> {
    let ids = parts.iter().filter(|part| part.id.is_some()).count();
    let at = &input.ident;
    let message = match (&whole.of, whole.one_row, ids) {
        (Some(_), true, _) => "a part of another struct's table is no table of one row itself",
        (Some(_), _, 1..) => "the id is that of the whole struct: leave out `id`",
        (Some(_), ..) if whole.name.is_some() || !whole.options.is_empty() => {
            "options of the table belong to the whole struct"
        }
        (None, true, 1..) => "a one-row table needs no id: leave out `id` or `one_row`",
        (None, false, 0) => {
            "which field is the id? Mark it with #[table(id)], or the struct with #[table(one_row)] or #[table(of = …)]"
        }
        (None, false, 4..) => "an id has three parts at most",
        _ if whole.of.is_none() && !input.generics.params.is_empty() => {
            "a struct that declares a table owns what it holds; one that lends is `#[table(of = …)]` another one"
        }
        _ => return Ok(()),
    };
    Err(Error::new_spanned(at, message))
}
