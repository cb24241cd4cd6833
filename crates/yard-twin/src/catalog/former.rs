//! A yard of each former format is opened, brought up to date, and used.

use std::fs;
use std::path::Path;

use rusqlite::Connection;

use super::schema::STEPS;
use crate::check;
use crate::ident::SnapshotRef;
use crate::ops::clone;
use crate::ops::intake;
use crate::ops::restore;
use crate::report::show;
use crate::store::pool::Sharing;
use crate::upkeep::sweep;
use crate::{Ctx, Yard};

fn make(place: &Path) {
    let source = place.join("source");
    fs::create_dir_all(source.join("bin")).unwrap();
    fs::write(source.join("bin/game"), "#!/bin/sh\n").unwrap();
    fs::write(source.join("scenery.dat"), "hills").unwrap();
    let yard = Yard::init(place.join("yard")).unwrap();
    let mut options = intake::Options::new(&source, "wexcombe".parse().unwrap());
    options.build = Some("1.4".parse().unwrap());
    let ctx = Ctx::new();
    intake::apply(&yard, &intake::plan(&yard, options, &ctx).unwrap(), &ctx).unwrap();
    clone(&yard, "wexcombe@1.4", "a");
    clone(&yard, "wexcombe@1.4", "b");
}

fn clone(yard: &Yard, from: &str, name: &str) {
    let ctx = Ctx::new();
    let options = clone::Options { sharing: Some(Sharing::All), ..clone::Options::default() };
    let plan = clone::plan(yard, &from.parse().unwrap(), &name.parse().unwrap(), options, &ctx).unwrap();
    clone::apply(yard, &plan, &ctx).unwrap();
}

/// Writes the catalogue as a former version would have it: its tables and columns, and what is in them.
fn as_of(version: usize, place: &Path) {
    let (now, then) = (place.join("yard/catalog.db"), place.join("then.db"));
    let old = Connection::open(&then).unwrap();
    STEPS[..version].iter().for_each(|step| old.execute_batch(step).unwrap());
    old.execute("DELETE FROM sqlite_sequence", []).ok();
    old.execute("ATTACH ?1 AS now", [now.to_str().unwrap()]).unwrap();
    let names = |sql: &str| -> Vec<String> {
        let mut rows = old.prepare(sql).unwrap();
        let rows = rows.query_map([], |row| row.get(0)).unwrap();
        rows.map(Result::unwrap).collect()
    };
    for table in names("SELECT name FROM main.sqlite_schema WHERE type = 'table'") {
        let there = names(&format!("SELECT name FROM pragma_table_info('{table}', 'now')"));
        let columns: Vec<_> = names(&format!("SELECT name FROM pragma_table_info('{table}', 'main')"))
            .into_iter()
            .filter(|column| there.contains(column))
            .collect();
        if !columns.is_empty() {
            let columns = columns.join(", ");
            let copy = format!("INSERT INTO main.{table} ({columns}) SELECT {columns} FROM now.{table}");
            old.execute(&copy, []).unwrap();
        }
    }
    old.pragma_update(None, "user_version", u32::try_from(version).unwrap()).unwrap();
    drop(old);
    for more in ["", "-wal", "-shm"] {
        let _ = fs::remove_file(place.join(format!("yard/catalog.db{more}")));
    }
    fs::rename(then, now).unwrap();
    // Neither of them was there before.
    let _ = fs::remove_file(place.join("yard/pool/ledger"));
    let _ = fs::remove_file(place.join("yard/reserve"));
}

#[test]
fn a_yard_of_each_former_format_is_opened_and_used() {
    for version in 1..STEPS.len() {
        let place = tempfile::tempdir().unwrap();
        make(place.path());
        as_of(version, place.path());
        let ctx = Ctx::new();
        let save = place.path().join("yard/twins/a/game/save.dat");
        fs::write(&save, "written under the old version").unwrap();
        let yard = Yard::open(place.path().join("yard")).unwrap();
        assert_eq!(show::twins(&yard, false).unwrap().len(), 2, "format {version}");
        for twin in ["a", "b"] {
            show::twin(&yard, &twin.parse().unwrap(), &ctx).unwrap();
        }
        clone(&yard, "a", "c");
        assert!(place.path().join("yard/twins/c/game/save.dat").exists(), "format {version}");
        let options = restore::Options { to: Some(SnapshotRef::Number(1)), all: true, ..restore::Options::default() };
        let plan = restore::plan(&yard, &"a".parse().unwrap(), &options, &ctx).unwrap();
        restore::apply(&yard, &plan, &ctx).unwrap();
        assert!(!save.exists(), "format {version}");
        sweep::apply(&yard, &sweep::plan(&yard, &ctx).unwrap(), &ctx).unwrap();
        let report = check::look(&yard, &check::Options { full: true, ..check::Options::default() }, &ctx).unwrap();
        let bad: Vec<_> =
            report.findings.iter().filter(|finding| finding.severity == check::Severity::Damaged).collect();
        assert!(bad.is_empty(), "format {version}: {bad:?}");
    }
}
