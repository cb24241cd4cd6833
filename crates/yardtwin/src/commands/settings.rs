//! `profile show`, `profile set`, `profile unset`.

use std::process::ExitCode;

use yard_twin::{ProfileChange, ProfileView, Setting, TwinName, Yard};

use super::{Done, typed};
use crate::args::{DryRun, Profile};
use crate::screen::{Screen, shell};

pub(crate) fn run(yard: &Yard, command: Profile, screen: &Screen) -> Done {
    match command {
        Profile::Show { name } => {
            let view = yard.profile(&name)?;
            screen.answer(&view, |screen| show(&name, &view, screen));
        }
        Profile::Set { name, setting, value, how } => change(yard, &name, &setting, Some(&value), how, screen)?,
        Profile::Unset { name, setting, how } => change(yard, &name, &setting, None, how, screen)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn show(name: &TwinName, view: &ProfileView, screen: &Screen) {
    screen.head(format_args!("Profile of {}", shell(name)));
    let profile = &view.profile;
    let set = |setting: Setting| profile.get(&setting).unwrap_or_default();
    let from = |set: bool| if set { "set here" } else { "as the title sheet says" };
    let program = view.program.as_ref().map(|program| format!("{program}  ({})", from(profile.program.is_some())));
    let arguments = view.arguments.iter().map(shell).collect::<Vec<_>>().join(" ");
    let arguments = if arguments.is_empty() { "none".into() } else { arguments };
    screen.facts(&[
        ("file", view.path.display().to_string()),
        ("program", program.unwrap_or_else(|| "not known".into())),
        ("arguments", format!("{arguments}  ({})", from(profile.arguments.is_some()))),
        ("note", profile.note.clone().unwrap_or_default()),
        ("isolation", set(Setting::Isolation)),
        ("network", set(Setting::Network)),
        ("yard", set(Setting::Yard)),
        ("wrapper", set(Setting::Wrapper)),
        ("before", set(Setting::Before)),
        ("after", set(Setting::After)),
        (
            "environment",
            profile.environment.iter().map(|(name, value)| format!("{name}={value}")).collect::<Vec<_>>().join("\n"),
        ),
        ("next", typed(&format!("profile set {} note \u{2026}", shell(name)), &[])),
    ]);
}

fn change(
    yard: &Yard,
    name: &TwinName,
    setting: &str,
    values: Option<&[String]>,
    how: DryRun,
    screen: &Screen,
) -> Result<(), crate::fail::Failure> {
    let change = yard.change_profile(name, &setting.parse()?, values, how.dry_run)?;
    screen.answer(&change, |screen| {
        let done = if how.dry_run { "would change" } else { "changed" };
        screen.head(format_args!("Profile of {}: {} {done}", shell(name), change.setting));
        screen.facts(&[
            ("before", change.before.clone().unwrap_or_else(|| "not set".into())),
            ("now", change.after.clone().unwrap_or_else(|| unset(&change.setting).into())),
            ("way back", way_back(name, &change)),
        ]);
    });
    Ok(())
}

/// What holds where a setting is not set.
fn unset(setting: &str) -> &'static str {
    match setting.parse() {
        Ok(Setting::Program | Setting::Arguments) => "not set: the title sheet's holds",
        Ok(Setting::Isolation) => "not set: as far as is possible",
        _ => "not set",
    }
}

fn way_back(name: &TwinName, change: &ProfileChange) -> String {
    match &change.before {
        None => typed("profile unset", &[name, &change.setting]),
        // How several arguments were split can't be told from the text.
        Some(_) if change.setting.parse::<Setting>().is_ok_and(|setting| setting.is_list()) => String::new(),
        Some(before) => typed("profile set", &[name, &change.setting, before]),
    }
}
