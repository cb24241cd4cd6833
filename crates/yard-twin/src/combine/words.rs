//! Whole words in names and in texts.

/// What goes on with a word.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Joined {
    /// Letters, digits and `_`.
    Letters,
    /// A `-` too: `main-old` is another word than `main`.
    Hyphens,
}

/// A text with a word replaced wherever it stands as a whole; `None` where it does not. Numbers go on behind a point: in
/// `1.4.2` there is no `1.4`.
pub(crate) fn replaced(text: &str, from: &str, to: &str, joined: Joined) -> Option<String> {
    let (mut out, mut done) = (String::new(), 0);
    for (at, _) in text.match_indices(from).filter(|_| !from.is_empty()) {
        let end = at + from.len();
        let before: Vec<char> = text[..at].chars().rev().take(2).collect();
        let after: Vec<char> = text[end..].chars().take(2).collect();
        let edges = (from.chars().next(), from.chars().next_back());
        if at >= done && !goes_on(&before, edges.0, joined) && !goes_on(&after, edges.1, joined) {
            out.push_str(&text[done..at]);
            out.push_str(to);
            done = end;
        }
    }
    (done > 0).then(|| out + &text[done..])
}

/// Whether a word goes on with the two characters that are next to its edge.
fn goes_on(beside: &[char], edge: Option<char>, joined: Joined) -> bool {
    let digit = |c: Option<&char>| c.is_some_and(char::is_ascii_digit);
    match beside.first() {
        Some(c) if c.is_alphanumeric() || *c == '_' => true,
        Some('-') => joined == Joined::Hyphens && beside.get(1).is_some_and(|c| c.is_alphanumeric()),
        Some('.') => digit(edge.as_ref()) && digit(beside.get(1)),
        _ => false,
    }
}
