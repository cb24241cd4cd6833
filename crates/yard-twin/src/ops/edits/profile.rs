//! Looking at a twin's profile, and changing it.

use std::path::{Path, PathBuf};

use serde::Serialize;

use crate::Yard;
use crate::disk;
use crate::error::{LaunchError, Result};
use crate::ident::TwinName;
use crate::launch::reach;
use crate::profile::{Profile, ProfileText, Setting};
use crate::progress::Ctx;
use crate::twin::Twin;
use crate::twin::settle;

/// A twin's profile, and what the title sheet says where it is silent.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct ProfileView {
    /// Where it is.
    pub path: PathBuf,
    /// What is set.
    pub profile: Profile,
    /// The program that is started, below the game folder; `None` if nobody says.
    pub program: Option<String>,
    /// The arguments that it gets.
    pub arguments: Vec<String>,
}

/// A changed setting.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct ProfileChange {
    /// The setting by name.
    pub setting: String,
    /// Its value before, if it was set.
    pub before: Option<String>,
    /// Its value now, if it is set.
    pub after: Option<String>,
}

/// What changing a setting will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct ProfilePlan {
    /// What comes of it.
    #[serde(flatten)]
    pub would: ProfileChange,
    #[serde(skip)]
    twin: TwinName,
    #[serde(skip)]
    before: String,
    #[serde(skip)]
    after: String,
}

/// A twin's profile.
///
/// # Errors
/// [`crate::Error::NotFound`], [`LaunchError::Profile`] if it can't be read.
pub fn profile(yard: &Yard, name: &TwinName) -> Result<ProfileView> {
    let row = yard.twin_row(name, false)?;
    let path = settle::present_folder(yard, &row)?.join("profile.toml");
    let (profile, _) = Profile::load(&path)?;
    let sheet = yard.sheet_of(&yard.store.state(row.state)?.build)?;
    let command = crate::ops::play::command::choose(sheet.as_ref(), &profile.clone().in_use()?);
    let (program, arguments) = command.map_or((None, Vec::new()), |c| (Some(c.program), c.arguments));
    Ok(ProfileView { path, profile, program, arguments })
}

/// Looks at what changing a setting would do, of the profile itself or of one of its variants, or taking it out where
/// `values` is `None`; all else in the file stays as it is, comments too.
///
/// # Errors
/// [`LaunchError::Setting`] for a value that it can't take, [`LaunchError::Profile`] if the file can't be read,
/// [`crate::Error::Busy`] while the twin runs.
pub fn plan_profile(
    yard: &Yard,
    name: &TwinName,
    variant: Option<&str>,
    setting: &Setting,
    values: Option<&[String]>,
) -> Result<ProfilePlan> {
    let row = yard.twin_row(name, false)?;
    let _twin = Twin::hold(yard, &row, &Ctx::default())?;
    let path = settle::present_folder(yard, &row)?.join("profile.toml");
    let (profile, text) = Profile::load(&path)?;
    let before = profile.get_of(variant, setting);
    if values.is_none() && before.is_none() {
        let why = "it is not set".into();
        return Err(LaunchError::Setting { key: setting.to_string(), what: "unset", why }.into());
    }
    let shown = match (setting, values) {
        (Setting::Reach | Setting::ReachMore { .. }, Some(folders)) => {
            let named = folders.iter().map(|folder| Ok(reach::named(folder, yard.root())?.display().to_string()));
            Some(named.collect::<Result<Vec<_>>>()?)
        }
        // One that is gone is named as it is written down.
        (Setting::ReachLess, Some(folders)) => {
            let named = |folder: &String| {
                disk::canonical(Path::new(folder)).map_or(folder.clone(), |at| at.display().to_string())
            };
            Some(folders.iter().map(named).collect())
        }
        _ => None,
    };
    let mut changed = ProfileText::parse(&text, &path)?;
    changed.change(variant, setting, shown.as_deref().or(values))?;
    let next = changed.text();
    let after = Profile::parse(&next, &path)?;
    if let (Setting::Program, Some(_)) = (setting, values) {
        let sheet = yard.sheet_of(&yard.store.state(row.state)?.build)?;
        crate::ops::play::command::check_program(
            &after.clone().with_variant(variant)?,
            sheet.as_ref(),
            &yard.folder_of(&row).join("game"),
        )?;
    }
    let would = ProfileChange { setting: setting.to_string(), before, after: after.get_of(variant, setting) };
    Ok(ProfilePlan { would, twin: row.name, before: text, after: next })
}

/// Changes a setting.
///
/// # Errors
/// [`crate::TwinError::ChangedMeanwhile`] if the profile is not as it was when this was planned, [`crate::Error::Busy`]
/// while the twin runs.
pub fn apply_profile(yard: &Yard, plan: &ProfilePlan) -> Result<ProfileChange> {
    let row = yard.twin_row(&plan.twin, false)?;
    let _twin = Twin::hold(yard, &row, &Ctx::default())?;
    let path = settle::present_folder(yard, &row)?.join("profile.toml");
    if Profile::load(&path)?.1 != plan.before {
        return Err(crate::TwinError::ChangedMeanwhile { name: row.name.to_string(), path }.into());
    }
    if plan.after != plan.before {
        let op = yard.begin(&Ctx::default())?;
        disk::write_whole(&path, &op.path().join("profile"), plan.after.as_bytes())?;
    }
    Ok(plan.would.clone())
}
