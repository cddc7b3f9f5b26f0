//! [`marked`]: messages of the program as HTML.

use crate::visible;
use maud::{Markup, html};

/// A message, with the words between backticks as code.
pub(super) fn marked(text: &str) -> Markup {
    let text = visible(text);
    // Without pairs, it is a text with a backtick.
    let pairs = text.matches('`').count().is_multiple_of(2);
    html! {
        @if pairs {
            @for (n, part) in text.split('`').enumerate() {
                @if n % 2 == 1 { code { (part) } } @else { (part) }
            }
        } @else {
            (text)
        }
    }
}
