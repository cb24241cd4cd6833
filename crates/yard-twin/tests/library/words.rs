//! What people write: paths, names, sheets, profiles.

use std::path::Path;

use crate::common::{Place, clone, take_in, tree};
use proptest::prelude::*;
use yard_twin::{BuildRef, Ctx, RelPath, Setting, Sharing, Sheet, Title, TwinName, Yard, edits, intake, new_sheet};

proptest! {
    // A failure prints its input; it becomes a test of its own, not a file.
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_path_is_taken_just_if_it_leads_nowhere_else(text in "[a./\\\\\u{0}é ]{0,10}") {
        let good = !text.is_empty()
            && !text.contains('\0')
            && text.split('/').all(|part| !matches!(part, "" | "." | ".."));
        prop_assert_eq!(RelPath::new(text.as_str()).is_ok(), good);
        if good {
            let on_disk = RelPath::new(text.as_str()).unwrap().below(Path::new("/root"));
            prop_assert!(on_disk.starts_with("/root") && on_disk.components().count() >= 3);
        }
    }

    #[test]
    fn any_text_is_a_name_or_an_error_and_a_name_is_a_file_name(text in any::<String>()) {
        if let Ok(name) = TwinName::new(text.as_str()) {
            prop_assert_eq!(Path::new(name.as_str()).components().count(), 1);
        }
        let _ = (Title::new(text.as_str()), text.parse::<BuildRef>(), text.parse::<Setting>());
    }

    /// For letters that Unicode has had for long: the folding tables are some versions behind the standard library's.
    #[test]
    fn names_that_differ_by_case_or_by_how_accents_are_spelt_clash(text in "[a-zA-ZÀ-ÖØ-öø-ÿΑ-Ρα-ρА-я0-9]{1,12}") {
        use unicode_normalization::UnicodeNormalization;
        let key = |text: String| TwinName::new(text).ok().map(|name| name.key());
        let first = key(text.clone());
        if first.is_some() {
            prop_assert_eq!(&key(text.to_uppercase()), &first);
            prop_assert_eq!(&key(text.to_lowercase()), &first);
            prop_assert_eq!(&key(text.nfd().collect()), &first);
        }
    }

    #[test]
    fn any_text_is_a_sheet_or_an_error_with_a_place_in_it(text in any::<String>()) {
        if let Err(error) = Sheet::parse(&text, Path::new("x.toml")) {
            prop_assert!(error.line <= text.matches('\n').count() + 1 && error.column >= 1);
        }
    }
}

#[test]
fn a_pattern_takes_what_it_matches_and_what_lies_below() {
    let sheet = |patterns: &str, more: &str| {
        let text = format!("title = \"x\"\n{more}\n[belongings.own]\npatterns = {patterns}\n");
        Sheet::parse(&text, Path::new("x.toml")).unwrap()
    };
    let takes = |sheet: &Sheet, path: &str| sheet.group_of(&RelPath::new(path).unwrap()).is_some();
    let one = sheet("[\"game/cabin/shifts/*.wjs\", \"home/.config/wexcombe/\"]", "");
    assert!(takes(&one, "game/cabin/shifts/a.wjs") && takes(&one, "home/.config/wexcombe/a/b.ini"));
    assert!(!takes(&one, "game/cabin/shifts/old/a.wjs"), "* stays within a folder");
    assert!(!takes(&one, "game/cabin/shifts/A.WJS") && !takes(&one, "game/other/cabin/shifts/a.wjs"));
    let all = sheet("[\"game/**/*.wjrun\"]", "ignore_case = true");
    assert!(takes(&all, "game/a.WJRUN") && takes(&all, "game/x/y/A.wjrun"));
    assert!(!takes(&all, "home/a.wjrun"));
}

#[test]
fn a_drafted_sheet_is_a_good_one_whatever_the_folder_holds() {
    for seed in 0..20 {
        let place = Place::new();
        tree(&place.at("source"), seed);
        let yard = Yard::init(place.at("yard")).unwrap();
        let mut options = intake::Options::new(place.at("source"), "some title".parse().unwrap());
        options.build = Some("1".parse().unwrap());
        let ctx = Ctx::new();
        let plan = intake::plan(&yard, options, &ctx).unwrap();
        assert_eq!(plan.sheet, intake::SheetUse::Drafted);
        intake::apply(&yard, &plan, &ctx).unwrap();
        let sheet = yard.sheet(&"some title".parse().unwrap()).unwrap().unwrap();
        assert_eq!(sheet.default_program(), plan.program);
    }
    assert!(Sheet::parse(&new_sheet(&Title::new("a 'b' ü").unwrap()), Path::new("x")).is_ok());
}

#[test]
fn a_draft_finds_the_likely_program_and_what_looks_like_the_players() {
    let place = Place::new();
    standins::write_wexcombe(&place.at("source"), "1.4", Path::new("/bin/true")).unwrap();
    for (path, text) in [("saves/one.sav", "x"), ("bin/uninstall", "#!/bin/sh\n"), ("logs/today.log", "x")] {
        let path = place.at("source").join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, text).unwrap();
        std::fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    }
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1.4").unwrap();
    let text = std::fs::read_to_string(place.at("yard/sheets/wexcombe.toml")).unwrap();
    let known: String = text.lines().filter(|line| !line.starts_with('#')).map(|line| format!("{line}\n")).collect();
    insta::assert_snapshot!(known);
}

#[test]
fn a_changed_profile_keeps_every_other_byte_and_unset_gives_back_what_was_there() {
    let place = Place::new();
    tree(&place.at("source"), 2);
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1.4").unwrap();
    let made = clone(&yard, "wexcombe@1.4", "a", Sharing::None).unwrap();
    let path = made.folder.join("profile.toml");
    let name = "a".parse().unwrap();
    for text in [
        "",
        "# mine\n\nnote = 'old' # why\n\n[environment] # all of it\nA = \"1\"   # one\n# the end",
        "\r\n# crlf\r\n",
    ] {
        std::fs::write(&path, text).unwrap();
        for setting in ["arguments", "environment.NEW", "program"] {
            let setting: Setting = setting.parse().unwrap();
            let plan = edits::plan_profile(&yard, &name, None, &setting, Some(&["x y".into()])).unwrap();
            let change = edits::apply_profile(&yard, &plan).unwrap();
            assert_eq!((change.before, change.after.as_deref()), (None, Some("x y")));
            let changed = std::fs::read_to_string(&path).unwrap();
            for line in text.lines() {
                assert!(changed.contains(line), "{line:?} is still in {changed:?}");
            }
            edits::apply_profile(&yard, &edits::plan_profile(&yard, &name, None, &setting, None).unwrap()).unwrap();
        }
        let left = std::fs::read_to_string(&path).unwrap();
        assert_eq!(left.replace("\r\n", "\n").trim_end(), text.replace("\r\n", "\n").trim_end());
    }
}
