//! `profile show`, `profile set`, `profile unset`, `profile apply`, `profile use`, `profile copy`.

use std::process::ExitCode;

use yard_twin::{Edit, Setting, TwinName, Yard, edits};

use super::{Done, typed};
use crate::answers::ShownProfile;
use crate::args::{DryRun, Profile};
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, listed, shell};

pub(crate) fn run(yard: &Yard, command: Profile, screen: &Screen) -> Done {
    match command {
        Profile::Show { name } => {
            let view = edits::profile(yard, &name)?;
            let shown = ShownProfile { edits: edits_of(yard, &name, &view, screen)?, view };
            screen.answer(&shown, |screen| show(&name, &shown, screen));
        }
        Profile::Set { name, setting, value, file: None, variant, how, writable, .. } => {
            let setting = match setting.unwrap_or_default().parse()? {
                Setting::ReachMore { .. } => Setting::ReachMore { writable },
                other if writable => {
                    let again = format!("yardtwin profile set {} reach+ DIR --writable", shell(&name));
                    return Err(Failure::usage(format!("--writable goes with reach+, not with {other}"), again));
                }
                other => other,
            };
            change(yard, &name, (variant.as_deref(), &setting, Some(&value)), how, screen)?;
        }
        Profile::Set { name, file: Some(file), line: Some(line), encoding, enforce, variant, how, .. } => {
            let Some(edit) = Edit::line(&file, &line) else {
                let again = format!("yardtwin profile set {} --file {} --line KEY=VALUE", shell(&name), shell(&file));
                return Err(Failure::usage(format!("{line:?} has no key and value"), again));
            };
            let edit = Edit { encoding, enforce, ..edit };
            edits(yard, &name, &edits::Change::Set { edit, variant }, how, screen)?;
        }
        Profile::Set { name, setting, value, file: Some(file), format, encoding, enforce, variant, how, .. } => {
            let setting = setting.unwrap_or_default();
            let [value] = <[String; 1]>::try_from(value).map_err(|_| {
                let again = format!("yardtwin profile set {} --file {} PLACE VALUE", shell(&name), shell(&file));
                Failure::usage("a place in a file takes one value: put quotes around it", again)
            })?;
            let edit = Edit { file, key: setting, value, format: format.map(Into::into), encoding, enforce };
            edits(yard, &name, &edits::Change::Set { edit, variant }, how, screen)?;
        }
        Profile::Unset { name, setting, file: None, variant, how } => {
            change(yard, &name, (variant.as_deref(), &setting.parse()?, None), how, screen)?;
        }
        Profile::Unset { name, setting, file: Some(file), variant, how } => {
            edits(yard, &name, &edits::Change::Unset { file, key: setting, variant }, how, screen)?;
        }
        Profile::Apply { name, how } => edits(yard, &name, &edits::Change::Apply, how, screen)?,
        Profile::Use { name, variant, how, .. } => edits(yard, &name, &edits::Change::Use(variant), how, screen)?,
        Profile::Copy { part, from, to, how } => {
            edits(yard, &to, &edits::Change::Copy { from, parts: part }, how, screen)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// What is in the files that a profile edits; nothing is looked at where it edits none.
fn edits_of(
    yard: &Yard,
    name: &TwinName,
    view: &edits::ProfileView,
    screen: &Screen,
) -> Result<Vec<edits::View>, Failure> {
    let profile = &view.profile;
    if profile.edits.is_empty() && profile.variants.values().all(|variant| variant.edits.is_empty()) {
        return Ok(Vec::new());
    }
    match edits::list(yard, name, &ctx(screen)) {
        Err(yard_twin::Error::Busy { .. }) => {
            screen.warn("it is in use now: what is in the files that are edited can't be told");
            Ok(Vec::new())
        }
        edits => Ok(edits?),
    }
}

fn show(name: &TwinName, ShownProfile { view, edits }: &ShownProfile, screen: &Screen) {
    screen.head(format_args!("Profile of {}", shell(name)));
    let profile = &view.profile;
    let set = |setting: Setting| profile.get(&setting).unwrap_or_default();
    let from = |set: bool| if set { "set here" } else { "as the title sheet says" };
    let variant = profile.variant.as_ref().and_then(|name| profile.variants.get(name));
    let by = |set: bool, of_variant: bool| if of_variant { "set by the variant" } else { from(set) };
    let program = view.program.as_ref().map(|program| {
        format!(
            "{program}  ({})",
            by(profile.program.is_some(), variant.is_some_and(|variant| variant.program.is_some()))
        )
    });
    let arguments = view.arguments.iter().map(shell).collect::<Vec<_>>().join(" ");
    let arguments = if arguments.is_empty() { "none".into() } else { arguments };
    let by_arguments = by(profile.arguments.is_some(), variant.is_some_and(|variant| variant.arguments.is_some()));
    screen.facts(&[
        ("file", view.path.display().to_string()),
        ("program", program.unwrap_or_else(|| "not known".into())),
        ("arguments", format!("{arguments}  ({by_arguments})")),
        ("note", profile.note.clone().unwrap_or_default()),
        ("isolation", set(Setting::Isolation)),
        ("network", set(Setting::Network)),
        ("yard", set(Setting::Yard)),
        ("ipc", set(Setting::Ipc)),
        ("reach", set(Setting::Reach)),
        ("wrapper", set(Setting::Wrapper)),
        ("before", set(Setting::Before)),
        ("after", set(Setting::After)),
        (
            "environment",
            profile.environment.iter().map(|(name, value)| format!("{name}={value}")).collect::<Vec<_>>().join("\n"),
        ),
        ("variants", variants(profile)),
        ("next", typed(&format!("profile set {} note \u{2026}", shell(name)), &[])),
    ]);
    table(edits, screen);
}

fn variants(profile: &yard_twin::Profile) -> String {
    let line = |(name, variant): (&String, &yard_twin::Variant)| {
        let used = if profile.variant.as_ref() == Some(name) { " (in use)" } else { "" };
        let note = variant.note.as_ref().map(|note| format!(": {note}")).unwrap_or_default();
        let words = |what: &str, words: &Option<Vec<String>>| {
            words.as_ref().map(|words| format!("{what} {}", words.iter().map(shell).collect::<Vec<_>>().join(" ")))
        };
        let program = variant.program.as_ref().map(|program| format!("program {program}"));
        let environment = variant.environment.iter().map(|(name, value)| format!("{name}={value}"));
        let edits = variant.edits.iter().map(|edit| format!("{} in {}: {}", edit.key, edit.file, edit.value));
        let sets = program.into_iter().chain(words("arguments", &variant.arguments)).chain(environment).chain(edits);
        let sets: String = sets.map(|set| format!("\n  {set}")).collect();
        format!("{name}{used}{note}{sets}")
    };
    profile.variants.iter().map(line).collect::<Vec<_>>().join("\n")
}

/// Old and new, for each edit.
fn table(edits: &[edits::View], screen: &Screen) {
    if edits.is_empty() {
        return;
    }
    let row = |edit: &edits::View| {
        let does = match edit.does {
            edits::Does::Set => "set",
            edits::Does::Nothing => "as it should be",
            edits::Does::Waits => "waits: the file is not there yet",
            edits::Does::Drifted => "changed since; profile apply sets it again",
            edits::Does::GivesBack => "given back",
            edits::Does::Leaves => "changed since, and left so",
            edits::Does::Broken => &format!("left as it is: {}", edit.why.as_deref().unwrap_or_default()),
        };
        let enforced = if edit.enforce { ", at each launch" } else { "" };
        vec![
            edit.file.clone(),
            edit.key.clone(),
            edit.there.clone().unwrap_or_else(|| match edit.like.as_slice() {
                [] => "not there yet".into(),
                like => format!("not there yet; there is {}", like.join(", ")),
            }),
            edit.value.clone().unwrap_or_else(|| "as it was".into()),
            format!("{does}{enforced}"),
        ]
    };
    screen.table(&["FILE", "PLACE", "VALUE THERE", "WANTED", "WHAT IS DONE"], edits.iter().map(row).collect());
}

fn edits(yard: &Yard, name: &TwinName, change: &edits::Change, how: DryRun, screen: &Screen) -> Result<(), Failure> {
    let ctx = ctx(screen);
    let before = edits::profile(yard, name)?.profile;
    let plan = edits::plan(yard, name, change, &ctx)?;
    if how.dry_run {
        screen.answer(&plan, |screen| {
            screen.head(format_args!("Profile of {}: this would be done", shell(name)));
            copied(&plan.copied, screen);
            table(&plan.edits, screen);
        });
        return Ok(());
    }
    let outcome = edits::apply(yard, &plan, &ctx)?;
    screen.answer(&outcome, |screen| {
        let same = outcome.number.is_none();
        screen.head(format_args!(
            "Profile of {}: {}",
            shell(name),
            if same { "nothing had to be changed" } else { done(change) }
        ));
        copied(&plan.copied, screen);
        table(&outcome.edits, screen);
        screen.facts(&[
            ("used by", used_by(name, change)),
            ("written meanwhile", listed(&outcome.late, 5)),
            ("way back", if same { String::new() } else { back(name, change, &before, outcome.before) }),
        ]);
    });
    Ok(())
}

/// When an edit of a variant holds.
fn used_by(name: &TwinName, change: &edits::Change) -> String {
    match change {
        edits::Change::Set { variant: Some(variant), .. } => {
            format!(
                "{}, or for one run {}",
                typed("profile use", &[name, variant]),
                typed("launch --variant", &[variant, name])
            )
        }
        _ => String::new(),
    }
}

fn copied(parts: &[&str], screen: &Screen) {
    if !parts.is_empty() {
        screen.facts(&[("copied", parts.join(", "))]);
    }
}

fn done(change: &edits::Change) -> &'static str {
    match change {
        edits::Change::Set { .. } => "the edit is set",
        edits::Change::Unset { .. } => "the edit is taken out",
        edits::Change::Apply => "the edits are applied",
        edits::Change::Use(Some(_)) => "the variant is in use",
        edits::Change::Use(None) => "no variant is in use",
        edits::Change::Copy { .. } => "it is copied",
    }
}

/// A new edit is taken out again, and one that was there gets its value back; what else changed is gone back to as a whole.
fn back(name: &TwinName, change: &edits::Change, profile: &yard_twin::Profile, before: u32) -> String {
    let edits::Change::Set { edit, variant } = change else { return typed("restore --all", &[name, &before]) };
    let of = match variant {
        Some(variant) => profile.variants.get(variant).map_or(&[][..], |variant| &variant.edits),
        None => &profile.edits,
    };
    let there = of.iter().find(|there| there.key == edit.key && there.file.ends_with(&edit.file));
    let command = match there {
        Some(there) => typed("profile set", &[name, &edit.key, &there.value]),
        None => typed("profile unset", &[name, &edit.key]),
    };
    let variant = variant.as_ref().map(|variant| format!(" --variant {}", shell(variant))).unwrap_or_default();
    format!("{command} --file {}{variant}", shell(&edit.file))
}

fn change(
    yard: &Yard,
    name: &TwinName,
    (variant, setting, values): (Option<&str>, &Setting, Option<&[String]>),
    how: DryRun,
    screen: &Screen,
) -> Result<(), Failure> {
    let plan = edits::plan_profile(yard, name, variant, setting, values)?;
    let change = if how.dry_run { plan.would } else { edits::apply_profile(yard, &plan)? };
    screen.answer(&change, |screen| {
        let done = if how.dry_run { "would change" } else { "changed" };
        let of = variant.map(|variant| format!(" of the variant {}", shell(variant))).unwrap_or_default();
        screen.head(format_args!("Profile of {}: {}{of} {done}", shell(name), change.setting));
        screen.facts(&[
            ("before", change.before.clone().unwrap_or_else(|| "not set".into())),
            ("now", change.after.clone().unwrap_or_else(|| unset(variant, &change.setting).into())),
            ("way back", way_back(name, variant, &change)),
        ]);
    });
    Ok(())
}

/// What holds where a setting is not set.
fn unset(variant: Option<&str>, setting: &str) -> &'static str {
    match setting.parse() {
        _ if variant.is_some() => "not set: the profile's holds",
        Ok(Setting::Program | Setting::Arguments) => "not set: the title sheet's holds",
        Ok(Setting::Isolation) => "not set: as far as is possible",
        _ => "not set",
    }
}

fn way_back(name: &TwinName, variant: Option<&str>, change: &edits::ProfileChange) -> String {
    let of = variant.map(|variant| format!(" --variant {}", shell(variant))).unwrap_or_default();
    match &change.before {
        None => typed("profile unset", &[name, &change.setting]) + &of,
        // How several arguments were split can't be told from the text.
        Some(_) if change.setting.parse::<Setting>().is_ok_and(|setting| setting.is_list()) => String::new(),
        Some(before) => typed("profile set", &[name, &change.setting, before]) + &of,
    }
}
