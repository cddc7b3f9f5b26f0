//! What is parsed from a field, and the errors.

use super::*;
use syn::parse_quote;

fn operation(input: DeriveInput) -> std::result::Result<Operation, String> {
    Operation::parse(&input).map_err(|error| error.to_string())
}

fn latest() -> Operation {
    let input = parse_quote! {
        #[settings(
            name = "latest",
            does = "Keep the latest record of each entity",
            answers = "What does each vessel's record say now?"
        )]
        struct Latest {
            /// The column of dates.
            #[setting(column, required)]
            date: String,
            /// Keep the records of this many
            /// newest dates. The default is `1`.
            ///
            /// More than the help tells.
            #[setting(number, from = 1, default = 1)]
            newest_dates: u32,
            /// Mark the rows instead.
            #[setting(yes, rename = "mark-them")]
            mark: bool,
            /// What breaks ties.
            #[setting(one_of, plain)]
            ties: Option<Ties>,
            /// Is no setting.
            cache: Vec<u8>,
        }
    };
    operation(input).unwrap()
}

#[test]
fn fields_are_settings_in_their_order() {
    let Operation { ident, name, does, answers, settings, others } = latest();
    assert_eq!((ident.to_string().as_str(), name.value().as_str()), ("Latest", "latest"));
    assert_eq!(does.unwrap().value(), "Keep the latest record of each entity");
    assert_eq!(answers.unwrap().value(), "What does each vessel's record say now?");
    let names: Vec<&str> = settings.iter().map(|setting| setting.name.as_str()).collect();
    assert_eq!(names, ["date", "newest-dates", "mark-them", "ties"]);
    assert_eq!(others, ["cache"]);
}

#[test]
fn the_help_is_the_first_paragraph_and_the_default_its_last_sentence() {
    let settings = latest().settings;
    assert_eq!(settings[0].help, "The column of dates");
    assert_eq!(settings[0].default_in_words, None);
    assert_eq!(settings[1].help, "Keep the records of this many newest dates");
    assert_eq!(settings[1].default_in_words.as_deref(), Some("1"));
    assert_eq!(settings[1].docs.len(), 4, "the builder method has all of the documentation");
}

#[test]
fn what_a_field_takes_is_what_its_attribute_says() {
    let settings = latest().settings;
    let takes: Vec<String> = settings.iter().map(|setting| setting.takes.to_string()).collect();
    assert_eq!(takes[0], "crate :: Takes :: Column");
    assert_eq!(takes[1], "crate :: Takes :: Number");
    assert_eq!(takes[2], "crate :: Takes :: Yes");
    assert_eq!(takes[3], "crate :: Takes :: OneOf (< Ties > :: WORDS)");
    let flags = |of: fn(&Setting) -> bool| settings.iter().map(of).collect::<Vec<_>>();
    assert_eq!(flags(|setting| setting.is_required), [true, false, false, false]);
    assert_eq!(flags(|setting| setting.is_yes), [false, false, true, false]);
    assert_eq!(flags(|setting| setting.has_builder), [false, true, true, false]);
    assert_eq!(settings[1].from.as_ref().unwrap().base10_digits(), "1");
    assert!(settings[1].default.is_some() && settings[0].default.is_none());
}

#[test]
fn types_in_wrappers_are_found() {
    let option: Type = parse_quote!(Option<Vec<String>>);
    let vec = inner(&option);
    assert_eq!(quote!(#vec).to_string(), "Vec < String >");
    let string = generic(vec, "Vec").unwrap();
    assert_eq!(quote!(#string).to_string(), "String");
    assert!(generic(string, "Vec").is_none());
    assert!(generic(&parse_quote!((u8, u8)), "Vec").is_none());
}

#[test]
fn missing_and_unknown_settings_are_explained() {
    let told = |input: DeriveInput| operation(input).map(drop).unwrap_err();
    assert_eq!(
        told(parse_quote!(
            enum Latest {
                First,
            }
        )),
        "settings are the fields of a struct"
    );
    assert_eq!(
        told(parse_quote!(
            struct Latest(u8);
        )),
        "settings are named fields"
    );
    assert_eq!(
        told(parse_quote!(
            struct Latest {
                a: u8,
            }
        )),
        "#[settings(name = \"…\")] is missing"
    );
    let without_does = parse_quote!(
        #[settings(name = "a", answers = "What?")]
        struct Latest {
            a: u8,
        }
    );
    assert_eq!(told(without_does), "#[settings(does = \"…\")] is missing");
    let unanswered = parse_quote!(
        #[settings(name = "a", does = "Keep rows")]
        struct Latest {
            a: u8,
        }
    );
    assert_eq!(told(unanswered), "#[settings(answers = \"…\")] is missing");
    let other = parse_quote!(
        #[settings(title = "a")]
        struct Latest {
            a: u8,
        }
    );
    assert_eq!(told(other), "expected `name`, `does` or `answers`");
    let no_help = parse_quote!(
        struct Latest {
            #[setting(column)]
            a: String,
        }
    );
    assert_eq!(told(no_help), "a setting needs a doc comment: it is its help");
    let nothing = parse_quote!(
        struct Latest {
            /** Help. */
            #[setting(required)]
            a: String,
        }
    );
    assert_eq!(told(nothing), "the setting does not say what it takes: `column`, `yes` …");
    let unknown = parse_quote!(
        struct Latest {
            /** Help. */
            #[setting(colum)]
            a: String,
        }
    );
    assert_eq!(told(unknown), "this is nothing that a setting has");
}
