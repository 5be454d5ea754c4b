//! What stands in `#[table(…)]`, and names in the manner of SQL.

use quote::ToTokens as _;
use syn::meta::ParseNestedMeta;
use syn::punctuated::Punctuated;
use syn::{
    Data, DeriveInput, Error, Field, Fields, LitBool, LitStr, Meta, Path, Result, Token, bracketed,
    parse_quote, token,
};

/// The path of the library: `::backwater`, or what `crate = "…"` says of a renamed dependency.
pub(crate) fn library(input: &DeriveInput, attribute: &str) -> Result<Path> {
    for attribute in input.attrs.iter().filter(|of| of.path().is_ident(attribute)) {
        let options = Punctuated::<Meta, Token![,]>::parse_terminated;
        for option in attribute.parse_args_with(options)? {
            match option {
                Meta::NameValue(option) if option.path.is_ident("crate") => {
                    let path: LitStr = syn::parse2(option.value.into_token_stream())?;
                    return path.parse();
                }
                // What else there is, is read where it is known.
                _ if attribute.path().is_ident("table") => {}
                other => return Err(Error::new_spanned(other, "expected crate")),
            }
        }
    }
    Ok(parse_quote!(::backwater))
}

/// The named fields of a struct.
pub(crate) fn fields(input: &DeriveInput) -> Result<Vec<&Field>> {
    match &input.data {
        Data::Struct(of) => match &of.fields {
            Fields::Named(fields) => Ok(fields.named.iter().collect()),
            _ => Err(Error::new_spanned(&input.ident, "the struct's fields need names")),
        },
        _ => Err(Error::new_spanned(&input.ident, "expected a struct")),
    }
}

pub(crate) fn text(meta: &ParseNestedMeta<'_>) -> Result<LitStr> {
    meta.value()?.parse()
}

/// A text, or several in brackets.
pub(crate) fn texts(meta: &ParseNestedMeta<'_>) -> Result<Vec<LitStr>> {
    let value = meta.value()?;
    if !value.peek(token::Bracket) {
        return Ok(vec![value.parse()?]);
    }
    let listed;
    bracketed!(listed in value);
    Ok(listed.parse_terminated(|text| text.parse::<LitStr>(), Token![,])?.into_iter().collect())
}

/// One of some texts.
pub(crate) fn one_of(meta: &ParseNestedMeta<'_>, known: &[&str]) -> Result<LitStr> {
    let text = text(meta)?;
    if known.contains(&text.value().as_str()) {
        return Ok(text);
    }
    let known: Vec<String> = known.iter().map(|known| format!("{known:?}")).collect();
    Err(Error::new(text.span(), format!("expected one of {}", known.join(", "))))
}

/// An option that is true when it stands alone.
pub(crate) fn flag(meta: &ParseNestedMeta<'_>) -> Result<bool> {
    if meta.input.peek(Token![=]) {
        Ok(meta.value()?.parse::<LitBool>()?.value())
    } else {
        Ok(true)
    }
}

/// `option = "text"`, as TOML has it.
pub(crate) fn assigned(option: &str, text: &LitStr) -> String {
    format!("{option} = {}", quoted(&text.value()))
}

/// `option = ["one", "other"]`, or without brackets if it is one.
pub(crate) fn all_assigned(option: &str, texts: &[LitStr]) -> String {
    match texts {
        [only] => assigned(option, only),
        _ => {
            let texts: Vec<String> = texts.iter().map(|text| quoted(&text.value())).collect();
            format!("{option} = [{}]", texts.join(", "))
        }
    }
}

pub(crate) fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// `DelayMin` as `delay_min`.
pub(crate) fn snake(name: &str) -> String {
    let mut out = String::new();
    for character in name.chars() {
        if character.is_uppercase() && !out.is_empty() {
            out.push('_');
        }
        out.extend(character.to_lowercase());
    }
    out
}

/// A field's name in the table.
pub(crate) fn name_of(field: &Field) -> String {
    let name = field.ident.as_ref().map(ToString::to_string).unwrap_or_default();
    name.strip_prefix("r#").map(str::to_owned).unwrap_or(name)
}
