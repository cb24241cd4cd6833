//! What users see: lines, blocks, tables, sizes, times, questions.

use std::fmt::{Display, Write as _};
use std::io::{IsTerminal, Write};
use std::os::fd::AsFd;
use std::sync::{LazyLock, Mutex, PoisonError};
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use comfy_table::{Table, presets};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;
use yard_twin::Holder;

use crate::answers::Failed;
use crate::fail::Failure;

const BOLD: Style = Style::new().bold();
const FAINT: Style = Style::new().dimmed();
const BAD: Style = AnsiColor::Red.on_default().bold();
const WARN: Style = AnsiColor::Magenta.on_default().bold();

/// How marked text is shown.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tone {
    /// As it is.
    Plain,
    /// Less than the rest.
    Faint,
    /// Something came.
    Came,
    /// Something went.
    Went,
    /// Something is not what it was.
    Other,
    /// Something is elsewhere.
    Elsewhere,
    /// What is wrong.
    Bad,
}

impl Tone {
    fn style(self) -> Style {
        match self {
            Self::Plain => Style::new(),
            Self::Faint => FAINT,
            Self::Came => AnsiColor::Green.on_default(),
            Self::Went => AnsiColor::Red.on_default(),
            Self::Other => AnsiColor::Yellow.on_default(),
            Self::Elsewhere => AnsiColor::Cyan.on_default(),
            Self::Bad => BAD,
        }
    }
}

/// Where answers go: people, or a program that reads JSON.
#[derive(Clone, Copy)]
pub(crate) struct Screen {
    json: bool,
}

/// Answers in JSON, until all are there: a process has one standard output, and one document goes there.
static ANSWERS: Mutex<Vec<String>> = Mutex::new(Vec::new());

/// What is to be minded beside an answer in JSON: it is told with what went wrong, so that standard error has one object then,
/// or after the answer.
static NOTES: Mutex<Vec<String>> = Mutex::new(Vec::new());

/// The first thing that was wrong with writing an answer.
static UNWRITTEN: Mutex<Option<std::io::Error>> = Mutex::new(None);

impl Screen {
    pub(crate) fn new(json: bool) -> Self {
        Self { json }
    }

    pub(crate) fn is_json(&self) -> bool {
        self.json
    }

    /// Answers with `value` in JSON, or with `people` for people.
    pub(crate) fn answer<T: Serialize>(&self, value: &T, people: impl FnOnce(&Self)) {
        if self.json {
            let text = serde_json::to_string_pretty(value).unwrap_or_default();
            ANSWERS.lock().unwrap_or_else(PoisonError::into_inner).push(text);
        } else {
            people(self);
        }
    }

    /// A line on standard output.
    pub(crate) fn line(&self, text: impl Display) {
        if let Err(error) = writeln!(anstream::stdout(), "{text}") {
            UNWRITTEN.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
        }
    }

    /// Writes what was answered in JSON: one document, a list where there were several targets. An error if any of the answer
    /// could not be written; none in words if its reader has gone away.
    pub(crate) fn finish(&self) -> Result<(), Option<Failure>> {
        let answers = std::mem::take(&mut *ANSWERS.lock().unwrap_or_else(PoisonError::into_inner));
        match answers.as_slice() {
            [] => {}
            [one] => self.line(one),
            several => self.line(format_args!("[\n{}\n]", several.join(",\n"))),
        }
        match UNWRITTEN.lock().unwrap_or_else(PoisonError::into_inner).take() {
            None => Ok(()),
            Some(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Err(None),
            Some(error) => Err(Some(Failure::failed(format!("the answer can't be written: {error}")))),
        }
    }

    /// A line made of pieces, each in its tone.
    pub(crate) fn pieces(&self, pieces: &[(Tone, &str)]) {
        let mut line = String::new();
        for (tone, text) in pieces {
            let style = tone.style();
            // Writing to text can't fail.
            let _ = write!(line, "{style}{}{style:#}", plain(text));
        }
        self.line(line);
    }

    /// A paragraph: a mark in its tone and what it is about, then text that is indented, in lines that fit.
    pub(crate) fn paragraph(&self, (tone, mark): (Tone, &str), about: &str, texts: &[String]) {
        const INDENT: usize = 9;
        self.pieces(&[(tone, &format!("{mark:INDENT$}")), (Tone::Plain, about)]);
        for line in texts.iter().flat_map(|text| wrapped(&plain(text), INDENT, std::io::stdout())) {
            self.line(format_args!("{:INDENT$}{line}", ""));
        }
    }

    /// A line beside the answer, on standard error.
    pub(crate) fn aside(&self, text: impl Display) {
        // As above.
        let _ = writeln!(anstream::stderr(), "{text}");
    }

    /// A headline.
    pub(crate) fn head(&self, text: impl Display) {
        for line in wrapped(&plain(&text.to_string()), 0, std::io::stdout()) {
            self.line(format_args!("{BOLD}{line}{BOLD:#}"));
        }
    }

    /// A sentence below a headline, in lines that fit.
    pub(crate) fn sentence(&self, text: &str) {
        for line in wrapped(&plain(text), 2, std::io::stdout()) {
            self.line(format_args!("  {line}"));
        }
    }

    /// Facts below a headline, aligned; the ones without a value are left out. What is too long for a terminal goes on
    /// below itself.
    pub(crate) fn facts(&self, facts: &[(&str, String)]) {
        let shown: Vec<_> = facts.iter().filter(|(_, value)| !value.is_empty()).collect();
        let width = shown.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
        for (name, value) in shown {
            let lines = value.lines().flat_map(|line| wrapped(&plain(line), width + 4, std::io::stdout()));
            for (at, line) in lines.enumerate() {
                let name = if at == 0 { name } else { "" };
                self.line(format_args!("  {FAINT}{name:width$}{FAINT:#}  {line}"));
            }
        }
    }

    /// What to mind.
    pub(crate) fn warn(&self, text: impl Display) {
        if self.json {
            NOTES.lock().unwrap_or_else(PoisonError::into_inner).push(text.to_string());
        } else {
            self.note(&text.to_string());
        }
    }

    /// Tells people what a program that reads JSON was not told.
    pub(crate) fn tell_notes(&self) {
        notes().iter().for_each(|note| self.note(note));
    }

    fn note(&self, text: &str) {
        for (at, line) in wrapped(&plain(text), 6, std::io::stderr()).iter().enumerate() {
            let mark = if at == 0 { "note:" } else { "     " };
            self.aside(format_args!("{WARN}{mark}{WARN:#} {line}"));
        }
    }

    /// Rows under a heading.
    pub(crate) fn table(&self, heading: &[&str], rows: Vec<Vec<String>>) {
        let mut table = Table::new();
        table.load_style(presets::NOTHING);
        table.set_header(heading);
        for row in &rows {
            table.add_row(row.iter().map(|cell| plain(cell)));
        }
        for column in table.column_iter_mut() {
            column.set_padding((0, 2));
        }
        let lines: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
        let room = terminal_size::terminal_size_of(std::io::stdout()).map(|(width, _)| usize::from(width.0));
        if room.is_some_and(|room| lines.iter().any(|line| line.chars().count() > room)) {
            return self.records(heading, rows);
        }
        for (at, line) in lines.iter().enumerate() {
            if at == 0 { self.line(format_args!("{BOLD}{line}{BOLD:#}")) } else { self.line(line) }
        }
    }

    /// Rows of a table for which a terminal is too narrow, each as a block.
    fn records(&self, heading: &[&str], rows: Vec<Vec<String>>) {
        let names: Vec<String> = heading.iter().map(|name| name.to_lowercase()).collect();
        for row in rows {
            let mut cells = names.iter().map(String::as_str).zip(row);
            if let Some((_, first)) = cells.next() {
                self.head(first);
            }
            self.facts(&cells.collect::<Vec<_>>());
        }
    }

    /// An error, with what to do and what to type.
    pub(crate) fn failure(&self, failure: &Failure) {
        if self.json {
            let told = Failed {
                error: failure.message(),
                remedy: failure.remedy(),
                command: failure.command(),
                notes: notes(),
                exit_code: failure.code(),
            };
            return self.aside(serde_json::to_string_pretty(&told).unwrap_or_default());
        }
        for (at, line) in wrapped(&plain(&failure.message()), 7, std::io::stderr()).iter().enumerate() {
            let mark = if at == 0 { "error:" } else { "      " };
            self.aside(format_args!("{BAD}{mark}{BAD:#} {line}"));
        }
        for line in failure.remedy().iter().flat_map(|remedy| wrapped(&plain(remedy), 2, std::io::stderr())) {
            self.aside(format_args!("  {line}"));
        }
        if let Some(command) = failure.command() {
            self.aside(format_args!("  {FAINT}type:{FAINT:#} {}", plain(&command)));
        }
    }

    /// Whether a question can be asked later on.
    pub(crate) fn can_ask(&self, what: &str) -> Result<(), Failure> {
        if std::io::stdin().is_terminal() && std::io::stderr().is_terminal() {
            return Ok(());
        }
        Err(Failure::refused(
            format!("there is no terminal to ask at {what}"),
            "Say it beforehand: --discard throws it away, and without that it is kept.",
        ))
    }

    /// Asks before something that can't be undone. Without a terminal the answer is no, and the option is named.
    pub(crate) fn confirm(&self, question: &str, yes: bool) -> Result<(), Failure> {
        if self.ask(question, yes)? { Ok(()) } else { Err(yard_twin::Error::Cancelled.into()) }
    }

    /// Asks for a text, beginning with one; without a terminal there is none.
    pub(crate) fn type_in(&self, question: &str, proposed: &str) -> Result<Option<String>, Failure> {
        if !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
            return Ok(None);
        }
        let answer =
            dialoguer::Input::new().with_prompt(plain(question)).with_initial_text(plain(proposed)).interact_text();
        answer.map(Some).map_err(|error| no_answer(&error))
    }

    /// Asks; without a terminal there is no answer, and the option is named.
    pub(crate) fn ask(&self, question: &str, yes: bool) -> Result<bool, Failure> {
        if yes {
            return Ok(true);
        }
        if !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
            let question = question.trim_end_matches('?');
            return Err(Failure::refused(
                format!("there is no terminal to ask at: {question}?"),
                "Look at it with --dry-run; then say --yes.",
            ));
        }
        match dialoguer::Confirm::new().with_prompt(plain(question)).default(false).interact_opt() {
            Ok(Some(answer)) => Ok(answer),
            // Esc, or q.
            Ok(None) => Err(yard_twin::Error::Cancelled.into()),
            Err(error) => Err(no_answer(&error)),
        }
    }
}

/// What was to be minded, told once.
fn notes() -> Vec<String> {
    std::mem::take(&mut *NOTES.lock().unwrap_or_else(PoisonError::into_inner))
}

/// That a question was not answered: by Ctrl-C, most often. The cursor was hidden meanwhile.
fn no_answer(error: &dialoguer::Error) -> Failure {
    let dialoguer::Error::IO(error) = error;
    let _ = write!(std::io::stderr(), "\u{1b}[?25h");
    match error.kind() {
        std::io::ErrorKind::Interrupted => yard_twin::Error::Cancelled.into(),
        _ => Failure::failed(format!("there was no answer: {error}")),
    }
}

/// The text in lines that fit the terminal `out` beside `indent` columns; as it is where `out` is none.
fn wrapped(text: &str, indent: usize, out: impl AsFd) -> Vec<String> {
    let Some((terminal_size::Width(width), _)) = terminal_size::terminal_size_of(out) else {
        return vec![text.to_owned()];
    };
    let width = usize::from(width).saturating_sub(indent).max(20);
    // A path that is too long is left to the terminal, which gives it back as one word when it is copied.
    let options = textwrap::Options::new(width).break_words(false).word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::wrap(text, options).into_iter().map(std::borrow::Cow::into_owned).collect()
}

/// The text without control characters and without marks that change the direction of writing: names that strangers
/// chose must not move the cursor or look like others.
pub(crate) fn plain(text: &str) -> String {
    text.chars()
        .map(|c| match c {
            '\t' => ' ',
            '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{200e}' | '\u{200f}' => '\u{fffd}',
            c if c.is_control() => '\u{fffd}',
            c => c,
        })
        .collect()
}

/// The text as a word for the shell.
pub(crate) fn shell(text: &(impl Display + ?Sized)) -> String {
    let text = text.to_string();
    let safe = |c: char| c.is_alphanumeric() || "@%_+=:,./-".contains(c);
    if !text.is_empty() && text.chars().all(safe) { text } else { format!("'{}'", text.replace('\'', r"'\''")) }
}

/// A size in bytes for people.
pub(crate) fn size(bytes: u64) -> String {
    const UNITS: [&str; 5] = ["KiB", "MiB", "GiB", "TiB", "PiB"];
    if bytes < 1024 {
        return format!("{bytes} B");
    }
    let mut tenths = u128::from(bytes) * 10 / 1024;
    let mut unit = 0;
    while tenths >= 10_240 && unit + 1 < UNITS.len() {
        tenths /= 1024;
        unit += 1;
    }
    if tenths >= 1000 {
        format!("{} {}", tenths / 10, UNITS[unit])
    } else {
        format!("{}.{} {}", tenths / 10, tenths % 10, UNITS[unit])
    }
}

/// `1 file`, `2 files`.
pub(crate) fn files(count: u64) -> String {
    counted(count, "file")
}

/// `1 thing`, `2 things`.
pub(crate) fn counted(count: u64, thing: &str) -> String {
    if count == 1 { format!("1 {thing}") } else { format!("{count} {thing}s") }
}

/// The user's time zone, by the file that says so: the library that knows all of them by name looks through them all first.
static ZONE: LazyLock<TimeZone> = LazyLock::new(|| {
    let file = match std::env::var("TZ") {
        Err(_) => "/etc/localtime".to_owned(),
        Ok(name) if name.chars().all(|c| c.is_ascii_alphanumeric() || "/_+-".contains(c)) && !name.starts_with('/') => {
            format!("/usr/share/zoneinfo/{name}")
        }
        Ok(_) => return TimeZone::system(),
    };
    let zone = std::fs::read(file).ok().and_then(|bytes| TimeZone::tzif("local", &bytes).ok());
    zone.unwrap_or_else(TimeZone::system)
});

/// A moment in the user's time zone.
pub(crate) fn moment(time: Timestamp) -> String {
    time.to_zoned_datetime(ZONE.clone()).strftime("%Y-%m-%d %H:%M").to_string()
}

/// The day of a moment in the user's time zone: `today`, `yesterday`, else its date.
pub(crate) fn day(time: Timestamp) -> String {
    let day = |time: Timestamp| time.to_zoned_datetime(ZONE.clone()).date();
    let (then, today) = (day(time), day(Timestamp::now()));
    match today.yesterday() {
        _ if then == today => "today".into(),
        Ok(yesterday) if then == yesterday => "yesterday".into(),
        _ => then.to_string(),
    }
}

/// How long something took.
pub(crate) fn duration(time: Duration) -> String {
    match time.as_secs() {
        0 => format!("{} ms", time.as_millis().max(1)),
        seconds @ 1..60 => format!("{seconds}.{} s", time.subsec_millis() / 100),
        seconds @ 60..3600 => format!("{} min {} s", seconds / 60, seconds % 60),
        seconds => format!("{} h {} min", seconds / 3600, seconds / 60 % 60),
    }
}

/// The first of many, a line each, and how many more there are.
pub(crate) fn some_of(all: &[String], most: usize) -> String {
    first_of(all, most, "\n")
}

/// The first of many in one line, and how many more there are.
pub(crate) fn listed(all: &[String], most: usize) -> String {
    first_of(all, most, ", ")
}

/// Some processes, with what they were started as.
pub(crate) fn processes(all: &[Holder], most: usize) -> String {
    let each: Vec<_> = all.iter().map(|one| format!("{} ({})", one.pid, plain(&one.command))).collect();
    listed(&each, most)
}

fn first_of(all: &[String], most: usize, between: &str) -> String {
    let mut text = all.iter().take(most).cloned().collect::<Vec<_>>().join(between);
    if all.len() > most {
        let _ = write!(text, "{between}and {} more", all.len() - most);
    }
    text
}
