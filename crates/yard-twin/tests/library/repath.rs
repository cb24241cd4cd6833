//! Places that texts name: what is found and what is mended.

use std::path::Path;

use yard_twin::{Ctx, Error, repath};

use crate::belongings::{text as text_of, two_builds, write};
use crate::common::{Place, assert_same, look};

#[test]
fn a_file_outside_that_is_written_to_meanwhile_is_not_replaced() {
    let place = Place::in_memory();
    let yard = two_builds(&place, "", &[("bin/start", "1", "2")]);
    let folder = place.at("project");
    for name in ["a.txt", "b.txt"] {
        write(&folder.join(name), "see /data/old/x\n", 5);
    }
    let ctx = Ctx::new();
    let named = (Path::new("/data/old"), Path::new("/data/new"));
    let plan = repath::plan_folder(&yard, &folder, None, Some(named), &ctx).unwrap();
    write(&folder.join("b.txt"), "nothing of the kind", 9);
    let before = look(&folder);
    assert!(matches!(repath::apply_folder(&yard, &plan, &ctx), Err(Error::Intake(_))));
    assert_same(&before, &look(&folder), "nothing is replaced, and nothing is left beside it");
}

#[test]
fn a_place_that_is_named_very_often_hides_no_other() {
    let place = Place::in_memory();
    let yard = two_builds(&place, "", &[("bin/start", "1", "2")]);
    let at = |path: &str| place.at(path).canonicalize().unwrap().display().to_string();
    let (other, installed) = (at("yard/twins/one"), at("2"));
    let text = format!("{}maps = {installed}/maps\n", format!("{other}/x\n").repeat(500));
    write(&place.at("yard/twins/two/game/paths.txt"), &text, 0);
    let (name, ctx) = ("two".parse().unwrap(), Ctx::new());
    let plan = repath::plan(&yard, &name, None, &ctx).unwrap();
    assert!(plan.found.len() < 500);
    assert_eq!(repath::apply(&yard, &plan, &ctx).unwrap().rewritten, 1);
    let mended = text.replace(&format!("{installed}/maps"), &format!("{}/game/maps", at("yard/twins/two")));
    assert_eq!(text_of(&place, "two/game/paths.txt"), mended, "the other twin's stay, and are named");
}
