//! Generates the code for the parsed settings.

use crate::parse::{Operation, Setting, generic, inner};
use proc_macro2::TokenStream;
use quote::{quote, quote_spanned};
use syn::{Data, DeriveInput, Error, Result, Type, spanned::Spanned};

pub(crate) fn expand(operation: &Operation) -> TokenStream {
    let Operation { ident, name, does, answers, settings, others } = operation;
    let entries = settings.iter().map(entry);
    let builders = settings.iter().filter(|setting| setting.has_builder).map(builder);
    let defaults = settings.iter().map(default);
    let givens = settings.iter().enumerate().map(|(place, setting)| given(place, setting));
    let ranges = settings.iter().enumerate().filter_map(|(place, setting)| range(place, setting));
    let fields: Vec<_> = settings.iter().map(|setting| &setting.field).collect();
    let about = does.iter().zip(answers).map(|(does, answers)| {
        quote! {
            /// What it does, as a phrase that begins with a verb.
            pub const DOES: &'static str = #does;
            /// The question that it answers.
            pub const ANSWERS: &'static str = #answers;
        }
    });
    quote! {
        impl #ident {
            /// Its name on the command line and in routines.
            pub const NAME: &'static str = #name;
            #(#about)*
            /// Its settings.
            pub const SETTINGS: &'static [crate::Setting] = &[#(#entries),*];

            #(#builders)*
        }

        impl ::std::default::Default for #ident {
            fn default() -> Self {
                Self { #(#defaults,)* #(#others: ::std::default::Default::default(),)* }
            }
        }

        impl crate::settings::Settings for #ident {
            fn from_given(
                given: &crate::settings::GivenSettings,
            ) -> crate::settings::Result<Self> {
                given.expect_known(Self::NAME, Self::SETTINGS)?;
                let mut settings = Self::default();
                #(#givens)*
                Ok(settings)
            }

            fn check_ranges(&self) -> crate::settings::Result<()> {
                let Self { #(#fields,)* .. } = self;
                #(let _ = #fields;)*
                #(#ranges)*
                Ok(())
            }
        }

        impl<'de> ::serde::Deserialize<'de> for #ident {
            fn deserialize<D: ::serde::Deserializer<'de>>(deserializer: D)
                -> ::std::result::Result<Self, D::Error> {
                let given =
                    <crate::settings::GivenSettings as ::serde::Deserialize>::deserialize(
                        deserializer,
                    )?;
                <Self as crate::settings::Settings>::from_given(&given)
                    .map_err(::serde::de::Error::custom)
            }
        }
    }
}

/// The setting's entry in `SETTINGS`.
fn entry(setting: &Setting) -> TokenStream {
    let Setting { name, takes, help, is_required, .. } = setting;
    let default = match &setting.default_in_words {
        Some(default) => quote!(::std::option::Option::Some(#default)),
        None => quote!(::std::option::Option::None),
    };
    let from = setting.from.as_ref().map_or(quote!(0), |from| quote!(#from));
    quote! {
        crate::Setting::new(#name, #takes, #is_required, #from, #help, #default)
    }
}

/// A builder method: one for a list takes any iterator, and one for a flag takes nothing.
fn builder(setting: &Setting) -> TokenStream {
    let Setting { field, ty, docs, .. } = setting;
    let is_option = generic(ty, "Option").is_some();
    let value_type = inner(ty);
    if setting.is_yes {
        return quote! {
            #(#docs)*
            #[must_use]
            pub fn #field(mut self) -> Self {
                self.#field = true;
                self
            }
        };
    }
    let (parameter, value) = match generic(value_type, "Vec") {
        Some(item) if converts(item) => (
            quote!(impl ::std::iter::IntoIterator<Item = impl ::std::convert::Into<#item>>),
            quote!(#field.into_iter().map(::std::convert::Into::into).collect()),
        ),
        Some(item) => (
            quote!(impl ::std::iter::IntoIterator<Item = #item>),
            quote!(#field.into_iter().collect()),
        ),
        None if converts(value_type) => {
            (quote!(impl ::std::convert::Into<#value_type>), quote!(#field.into()))
        }
        // Any type that is parsed from text. The method knows the type, which `parse` needs.
        None => (quote!(#value_type), quote!(#field)),
    };
    let value = if is_option { quote!(::std::option::Option::Some(#value)) } else { value };
    quote! {
        #(#docs)*
        #[must_use]
        pub fn #field(mut self, #field: #parameter) -> Self {
            self.#field = #value;
            self
        }
    }
}

/// Whether a method takes anything that converts to the type, and not only the type.
fn converts(ty: &Type) -> bool {
    let Type::Path(path) = ty else { return false };
    let short = ["String", "Workdays", "EntityList", "Separator"];
    path.path.segments.last().is_some_and(|last| short.iter().any(|short| last.ident == short))
}

fn default(setting: &Setting) -> TokenStream {
    let Setting { field, ty, default, .. } = setting;
    match default {
        Some(value) => quote!(#field: #value),
        None => quote_spanned!(ty.span()=> #field: <#ty as ::std::default::Default>::default()),
    }
}

/// Reads the setting from the given values.
fn given(place: usize, setting: &Setting) -> TokenStream {
    let field = &setting.field;
    quote! {
        if let Some(value) = given.value(&Self::SETTINGS[#place])? {
            settings.#field = value;
        }
    }
}

/// Checks that a number is not below the least.
fn range(place: usize, setting: &Setting) -> Option<TokenStream> {
    let field = &setting.field;
    setting.from.as_ref()?;
    Some(quote!(crate::settings::check_range(&Self::SETTINGS[#place], #field)?;))
}

/// Generates `WORDS`, `word`, `Display`, `FromStr` and the traits of serde for an enum.
pub(crate) fn words(input: &DeriveInput) -> Result<TokenStream> {
    let Data::Enum(data) = &input.data else {
        return Err(Error::new(input.span(), "words are the names of an enum's values"));
    };
    let ident = &input.ident;
    let variants: Vec<_> = data.variants.iter().map(|variant| &variant.ident).collect();
    let words: Vec<String> = variants.iter().map(|variant| kebab(&variant.to_string())).collect();
    Ok(quote! {
        impl #ident {
            /// The words for the values, in order.
            pub const WORDS: &'static [&'static str] = &[#(#words),*];
            const VALUES: &'static [#ident] = &[#(#ident::#variants),*];

            /// The word for the value on the command line and in routines.
            pub fn word(self) -> &'static str {
                Self::WORDS[self as usize]
            }
        }

        impl ::std::fmt::Display for #ident {
            fn fmt(&self, f: &mut ::std::fmt::Formatter<'_>) -> ::std::fmt::Result {
                f.pad(self.word())
            }
        }

        impl crate::settings::FromGiven for #ident {
            fn from_given(given: &crate::settings::Given,
                setting: &crate::Setting) -> crate::settings::Result<Self> {
                crate::settings::one_of(given, setting, Self::WORDS, Self::VALUES)
            }
        }

        impl ::serde::Serialize for #ident {
            fn serialize<S: ::serde::Serializer>(&self,
                serializer: S) -> ::std::result::Result<S::Ok, S::Error> {
                serializer.serialize_str(self.word())
            }
        }

        impl<'de> ::serde::Deserialize<'de> for #ident {
            fn deserialize<D: ::serde::Deserializer<'de>>(deserializer: D)
                -> ::std::result::Result<Self, D::Error> {
                let text =
                    <::std::string::String as ::serde::Deserialize>::deserialize(deserializer)?;
                let place = Self::WORDS.iter().position(|word| *word == text);
                place.map(|place| Self::VALUES[place]).ok_or_else(|| {
                    <D::Error as ::serde::de::Error>::unknown_variant(&text, Self::WORDS)
                })
            }
        }
    })
}

fn kebab(name: &str) -> String {
    let mut word = String::new();
    for letter in name.chars() {
        if letter.is_uppercase() && !word.is_empty() {
            word.push('-');
        }
        word.extend(letter.to_lowercase());
    }
    word
}
