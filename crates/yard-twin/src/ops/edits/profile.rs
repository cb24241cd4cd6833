//! Looking at a twin's profile, and changing it.

use std::path::PathBuf;

use serde::Serialize;

use crate::Yard;
use crate::disk;
use crate::error::{LaunchError, Result};
use crate::ident::TwinName;
use crate::profile::{Profile, ProfileText, Setting};
use crate::progress::Ctx;

/// A twin's profile, and what the title sheet says where it is silent.
#[derive(Clone, Debug, Serialize)]
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
pub struct ProfileChange {
    /// The setting by name.
    pub setting: String,
    /// Its value before, if it was set.
    pub before: Option<String>,
    /// Its value now, if it is set.
    pub after: Option<String>,
}

impl Yard {
    /// A twin's profile.
    ///
    /// # Errors
    /// [`crate::Error::NotFound`], [`LaunchError::Profile`] if it can't be read.
    pub fn profile(&self, name: &TwinName) -> Result<ProfileView> {
        let row = self.twin_row(name, false)?;
        let path = self.present_folder(&row)?.join("profile.toml");
        let (profile, _) = Profile::load(&path)?;
        let sheet = self.sheet_of(&self.store.state(row.state)?.build)?;
        let command = crate::ops::play::command::choose(sheet.as_ref(), &profile.clone().in_use()?);
        let (program, arguments) = command.map_or((None, Vec::new()), |c| (Some(c.program), c.arguments));
        Ok(ProfileView { path, profile, program, arguments })
    }

    /// Changes a setting, of the profile itself or of one of its variants, or takes it out where `values` is `None`; all else in the file stays as it is, comments too.
    /// With `dry_run` nothing is written.
    ///
    /// # Errors
    /// [`LaunchError::Setting`] for a value that it can't take, [`LaunchError::Profile`] if the file can't be read,
    /// [`crate::Error::Busy`] while the twin runs.
    pub fn change_profile(
        &self,
        name: &TwinName,
        variant: Option<&str>,
        setting: &Setting,
        values: Option<&[String]>,
        dry_run: bool,
    ) -> Result<ProfileChange> {
        let row = self.twin_row(name, false)?;
        let _twin = self.hold_twin(&row, &Ctx::default())?;
        let path = self.present_folder(&row)?.join("profile.toml");
        let (profile, text) = Profile::load(&path)?;
        let before = profile.get_of(variant, setting);
        if values.is_none() && before.is_none() {
            let why = "it is not set".into();
            return Err(LaunchError::Setting { key: setting.to_string(), what: "unset", why }.into());
        }
        let mut changed = ProfileText::parse(&text, &path)?;
        changed.change(variant, setting, values)?;
        let next = changed.text();
        let after = Profile::parse(&next, &path)?;
        if let (Setting::Program, Some(_)) = (setting, values) {
            let sheet = self.sheet_of(&self.store.state(row.state)?.build)?;
            crate::ops::play::command::check_program(&after.clone().with_variant(variant)?, sheet.as_ref())?;
        }
        if !dry_run && next != text {
            let op = self.begin(&Ctx::default())?;
            disk::write_whole(&path, &op.path().join("profile"), next.as_bytes())?;
        }
        Ok(ProfileChange { setting: setting.to_string(), before, after: after.get_of(variant, setting) })
    }
}
