//! Parses a struct into the description of each setting.

use proc_macro2::TokenStream;
use quote::quote;
use syn::{
    Attribute, Data, DeriveInput, Error, Expr, ExprLit, Fields, Ident, Lit, LitInt, LitStr, Meta,
    Result, Type, spanned::Spanned,
};

/// The struct of an operation.
pub(crate) struct Operation {
    pub(crate) ident: Ident,
    pub(crate) name: LitStr,
    /// None for settings that are not those of an operation.
    pub(crate) does: Option<LitStr>,
    pub(crate) answers: Option<LitStr>,
    pub(crate) settings: Vec<Setting>,
    /// Fields with `#[serde(skip)]`, which are not settings.
    pub(crate) others: Vec<Ident>,
}

/// A field that is a setting.
pub(crate) struct Setting {
    pub(crate) field: Ident,
    pub(crate) ty: Type,
    /// The name, with hyphens.
    pub(crate) name: String,
    /// The lines of its doc comment.
    pub(crate) docs: Vec<Attribute>,
    pub(crate) help: String,
    pub(crate) default_in_words: Option<String>,
    /// The value of `Takes`.
    pub(crate) takes: TokenStream,
    pub(crate) is_yes: bool,
    pub(crate) is_required: bool,
    pub(crate) default: Option<Expr>,
    /// The least number that it accepts.
    pub(crate) from: Option<LitInt>,
    pub(crate) has_builder: bool,
}

impl Operation {
    pub(crate) fn parse(input: &DeriveInput) -> Result<Operation> {
        let Data::Struct(data) = &input.data else {
            return Err(Error::new(input.span(), "settings are the fields of a struct"));
        };
        let Fields::Named(fields) = &data.fields else {
            return Err(Error::new(input.span(), "settings are named fields"));
        };
        let (mut name, mut does, mut answers) = (None, None, None);
        for attribute in
            input.attrs.iter().filter(|attribute| attribute.path().is_ident("settings"))
        {
            attribute.parse_nested_meta(|meta| {
                let value: LitStr = meta.value()?.parse()?;
                match () {
                    () if meta.path.is_ident("name") => name = Some(value),
                    () if meta.path.is_ident("does") => does = Some(value),
                    () if meta.path.is_ident("answers") => answers = Some(value),
                    () => return Err(meta.error("expected `name`, `does` or `answers`")),
                }
                Ok(())
            })?;
        }
        let missing = |what: &str| {
            Error::new(input.span(), format!("#[settings({what} = \"…\")] is missing"))
        };
        if does.is_some() != answers.is_some() {
            return Err(missing(if does.is_some() { "answers" } else { "does" }));
        }
        let (mut settings, mut others) = (Vec::new(), Vec::new());
        for field in &fields.named {
            let ident = field
                .ident
                .clone()
                .ok_or_else(|| Error::new(field.span(), "a field without a name"))?;
            if field.attrs.iter().any(|attribute| attribute.path().is_ident("setting")) {
                settings.push(Setting::from_field(ident, field)?);
            } else {
                others.push(ident);
            }
        }
        Ok(Operation {
            ident: input.ident.clone(),
            name: name.ok_or_else(|| missing("name"))?,
            does,
            answers,
            settings,
            others,
        })
    }
}

impl Setting {
    fn from_field(field: Ident, of: &syn::Field) -> Result<Setting> {
        let docs: Vec<Attribute> =
            of.attrs.iter().filter(|attribute| attribute.path().is_ident("doc")).cloned().collect();
        let (help, default_in_words) = help(&docs);
        if help.is_empty() {
            return Err(Error::new(of.span(), "a setting needs a doc comment: it is its help"));
        }
        let mut setting = Setting {
            name: field.to_string().replace('_', "-"),
            field,
            ty: of.ty.clone(),
            docs,
            help,
            default_in_words,
            takes: TokenStream::new(),
            is_yes: false,
            is_required: false,
            default: None,
            from: None,
            has_builder: true,
        };
        let ty = inner(&of.ty);
        for attribute in of.attrs.iter().filter(|attribute| attribute.path().is_ident("setting")) {
            attribute.parse_nested_meta(|meta| {
                let word = meta.path.require_ident()?.to_string();
                match word.as_str() {
                    "required" => setting.is_required = true,
                    "plain" => setting.has_builder = false,
                    "default" => setting.default = Some(meta.value()?.parse()?),
                    "from" => setting.from = Some(meta.value()?.parse()?),
                    "rename" => setting.name = meta.value()?.parse::<LitStr>()?.value(),
                    "column" => setting.takes = quote!(crate::Takes::Column),
                    "columns" => setting.takes = quote!(crate::Takes::Columns),
                    "name" => setting.takes = quote!(crate::Takes::Name),
                    "numbers" => setting.takes = quote!(crate::Takes::Numbers),
                    "days" => setting.takes = quote!(crate::Takes::Days),
                    "formats" => setting.takes = quote!(crate::Takes::Formats),
                    "entities" => setting.takes = quote!(crate::Takes::Entities),
                    "expression" => setting.takes = quote!(crate::Takes::Expression),
                    "yes" => (setting.takes, setting.is_yes) = (quote!(crate::Takes::Yes), true),
                    "number" => setting.takes = quote!(crate::Takes::Number),
                    "one_of" => setting.takes = quote!(crate::Takes::OneOf(<#ty>::WORDS)),
                    "text" | "texts" | "several" | "list" => {
                        let shown: LitStr = meta.value()?.parse()?;
                        setting.takes = match word.as_str() {
                            "text" => quote!(crate::Takes::Text(#shown)),
                            "texts" => quote!(crate::Takes::Texts(#shown)),
                            "several" => quote!(crate::Takes::Several(#shown)),
                            _ => quote!(crate::Takes::List(#shown)),
                        };
                    }
                    _ => return Err(meta.error("this is nothing that a setting has")),
                }
                Ok(())
            })?;
        }
        // Required settings are set by a constructor.
        setting.has_builder &= !setting.is_required;
        if setting.takes.is_empty() {
            return Err(Error::new(
                of.span(),
                "the setting does not say what it takes: `column`, `yes` …",
            ));
        }
        Ok(setting)
    }
}

/// The first paragraph of a doc comment as one line without its full stop, and the default from its
/// last sentence.
fn help(docs: &[Attribute]) -> (String, Option<String>) {
    let line = |attribute: &Attribute| match &attribute.meta {
        Meta::NameValue(pair) => match &pair.value {
            Expr::Lit(ExprLit { lit: Lit::Str(text), .. }) => Some(text.value().trim().to_owned()),
            _ => None,
        },
        _ => None,
    };
    let lines: Vec<String> =
        docs.iter().filter_map(line).take_while(|line| !line.is_empty()).collect();
    let text = lines.join(" ");
    let text = text.strip_suffix('.').unwrap_or(&text);
    match text.rsplit_once(". The default is ") {
        Some((help, default)) => (help.to_owned(), Some(default.replace('`', ""))),
        None => (text.to_owned(), None),
    }
}

/// The type inside an `Option`, or the type itself.
pub(crate) fn inner(ty: &Type) -> &Type {
    generic(ty, "Option").unwrap_or(ty)
}

/// `T` of `Wrapper<T>`.
pub(crate) fn generic<'a>(ty: &'a Type, wrapper: &str) -> Option<&'a Type> {
    let Type::Path(path) = ty else { return None };
    let last = path.path.segments.last().filter(|last| last.ident == wrapper)?;
    let syn::PathArguments::AngleBracketed(arguments) = &last.arguments else { return None };
    match arguments.args.first()? {
        syn::GenericArgument::Type(ty) => Some(ty),
        _ => None,
    }
}

#[cfg(test)]
mod tests;
