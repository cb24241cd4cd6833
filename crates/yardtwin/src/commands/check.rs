//! `check`.

use std::process::ExitCode;

use yard_twin::{Source, Yard, check};

use super::play::start_command;
use super::{Done, typed};
use crate::answers::Checked;
use crate::args::DryRun;
use crate::progress::ctx;
use crate::screen::{Screen, Tone, counted, duration, files, shell};

/// The exit code where differences or problems were found.
pub(super) const FOUND: u8 = 3;

pub(crate) fn check(yard: &Yard, options: &check::Options, fix: bool, how: DryRun, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let report = check::look(yard, options, &ctx)?;
    if !screen.is_json() {
        say(&report, options, fix, screen);
    }
    let mended = if fix && !how.dry_run {
        let options = check::MendOptions { from: options.from.clone(), entry_command: start_command(yard)? };
        Some(check::mend(yard, &report.findings, &options, &ctx)?)
    } else {
        None
    };
    if let Some(mended) = mended.as_ref().filter(|_| !screen.is_json() && !report.findings.is_empty()) {
        say_mended(mended, options, screen);
    }
    let left = |finding: &&check::Finding| !mended.as_ref().is_some_and(|mended| mended.done.contains(finding));
    let well = report.findings.iter().filter(left).all(|finding| finding.severity == check::Severity::Note);
    if screen.is_json() {
        screen.answer(&Checked { report, mended }, |_| {});
    }
    Ok(if well { ExitCode::SUCCESS } else { ExitCode::from(FOUND) })
}

fn say(report: &check::Report, options: &check::Options, fix: bool, screen: &Screen) {
    let what = options.what.as_ref().map_or_else(|| "The yard".into(), ToString::to_string);
    let problems = report.findings.iter().filter(|finding| finding.severity != check::Severity::Note).count() as u64;
    match problems {
        0 => screen.head(format_args!("{what}: nothing is wrong")),
        problems => screen.head(format_args!("{what}: {} to look at", counted(problems, "thing"))),
    }
    screen.facts(&[("looked at", looked_at(report, options)), ("took", duration(report.took))]);
    for finding in &report.findings {
        screen.line("");
        let mark = match finding.severity {
            check::Severity::Damaged => (Tone::Bad, "damaged"),
            check::Severity::Wrong => (Tone::Other, "wrong"),
            check::Severity::Differs => (Tone::Elsewhere, "differs"),
            check::Severity::Note => (Tone::Faint, "note"),
        };
        let texts: Vec<_> = [Some(finding.problem.to_string()), mend(finding, options)].into_iter().flatten().collect();
        screen.paragraph(mark, &finding.about.to_string(), &texts);
    }
    if !fix && report.findings.iter().any(|finding| finding.mend == check::Mend::Safe) {
        screen.line("");
        screen.facts(&[("next", fixing(options))]);
    }
}

fn looked_at(report: &check::Report, options: &check::Options) -> String {
    let counts = &report.looked_at;
    let contents = counted(counts.contents, "stored file");
    let read = if report.full { "every byte of them" } else { "names, sizes and times; --full reads every byte" };
    match &options.what {
        None => {
            let builds = counted(counts.stock_builds, "stock build");
            format!("{builds}, {}, {contents}: {read}", counted(counts.twins, "twin"))
        }
        Some(Source::Stock(_)) => format!("{contents}: {read}"),
        // What it shares is read with it; what the pool has besides is only looked for.
        Some(Source::Twin(_)) => format!("{}: {read}; {contents}, by size", files(counts.files)),
    }
}

/// What to type, or to do.
fn mend(finding: &check::Finding, options: &check::Options) -> Option<String> {
    let about = match &finding.about {
        check::About::Twin(name) => shell(name),
        check::About::Stock(build) => shell(build),
        check::About::Yard => String::new(),
    };
    Some(match &finding.mend {
        check::Mend::Safe => format!("mend: {}", fixing(options)),
        check::Mend::Nothing => return None,
        check::Mend::TakeIn { build, source } => format!(
            "mend: yardtwin intake {} --title {} --build {}, with the folder that it came from, or another copy of it",
            source.as_ref().map_or_else(|| "FOLDER".into(), |source| shell(&source.display())),
            shell(&build.title),
            shell(&build.build)
        ),
        check::Mend::Elsewhere => {
            format!("mend: {} --look-in DIR, with a folder that has the right bytes", fixing(options))
        }
        check::Mend::Look { from, to } => format!("see: {}", typed("diff", &[from, to])),
        check::Mend::Mods => format!("see: yardtwin mod list {about}"),
        check::Mend::AddAgain { name } => format!("mend: yardtwin mod update {about} {} PACKAGE", shell(name)),
        check::Mend::Restore => format!("mend: yardtwin restore {about}, or see yardtwin history {about}"),
        check::Mend::Clone { .. } => format!(
            "mend: put the folder back where it was; or, as its history knows it: yardtwin remove {about}, then {}",
            typed("clone", &[&finding.about, &finding.about])
        ),
        check::Mend::Repath { rewrites: true } => format!("mend it: yardtwin repath {about} (--dry-run shows them)"),
        check::Mend::Repath { rewrites: false } => format!("look at it: yardtwin repath {about} --dry-run"),
        check::Mend::Edit { path } => format!("mend: correct it in an editor: {}", path.display()),
        check::Mend::WriteSheet { title } => format!("mend: {}", typed("sheet new", &[title])),
        check::Mend::MoveUp { folder, into } => {
            let (folder, into) = (shell(&folder.display()), shell(&into.display()));
            format!("mend: cp -rn {folder}/. {into}/, then look what clashed, and move {folder} out of the twin")
        }
        check::Mend::MoveAway { path } => format!("mend: look at it, and move it away: {}", path.display()),
        check::Mend::PutBack => "mend: put its own folder back there, with its game in it as a folder".into(),
        check::Mend::AskForLess => format!("mend: yardtwin profile unset {about} isolation, or set another one"),
        check::Mend::CloneUnshared => format!("a copy with files of its own: yardtwin clone {about} NAME --share none"),
        check::Mend::Backup => "mend: put it back from a backup of the yard".into(),
        check::Mend::Wait => "try again once it is free".into(),
        // Mends of a later version of the library.
        _ => return None,
    })
}

/// The same check, with `--fix`.
fn fixing(options: &check::Options) -> String {
    let mut command = match &options.what {
        None => "yardtwin check".to_owned(),
        Some(what) => typed("check", &[what]),
    };
    if options.full {
        command.push_str(" --full");
    }
    command + " --fix"
}

/// Whether bytes are lost or wrong.
fn is_of_contents(problem: &check::Problem) -> bool {
    matches!(
        problem,
        check::Problem::ContentMissing { .. }
            | check::Problem::ContentDamaged { .. }
            | check::Problem::WrittenThrough { .. }
    )
}

fn say_mended(mended: &check::Mended, options: &check::Options, screen: &Screen) {
    screen.line("");
    if mended.done.is_empty() && mended.left.is_empty() {
        screen.head("Nothing could be mended without a decision of yours");
        return;
    }
    let done = counted(mended.done.len() as u64, "thing");
    match mended.left.len() as u64 {
        0 => screen.head(format_args!("{done} mended")),
        left => screen.head(format_args!("{done} mended, {left} not")),
    }
    for finding in &mended.done {
        screen.paragraph((Tone::Came, "mended"), &finding.about.to_string(), &[finding.problem.to_string()]);
    }
    let repaired: Vec<_> = mended.repaired.iter().map(|(twin, path)| format!("{path} of {twin}")).collect();
    if !repaired.is_empty() {
        screen.facts(&[("have their bytes again", crate::screen::some_of(&repaired, 12))]);
    }
    for (finding, why) in &mended.left {
        let texts = [finding.problem.to_string(), format!("not mended: {why}")];
        screen.paragraph((Tone::Bad, "left"), &finding.about.to_string(), &texts);
    }
    if mended.left.iter().any(|(finding, _)| is_of_contents(&finding.problem)) {
        screen.facts(&[("next", format!("{} --look-in DIR", fixing(options)))]);
    }
}
