//! The inside of the everyday commands: identifying and comparing listings, and settling a twin in which nothing changed.
#![allow(missing_docs, clippy::unwrap_used)]

use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};
use yard_twin::{CloneOptions, Ctx, IntakeOptions, Listing, RelPath, Source, Title, TwinName, Yard, diff};

/// A build of 10,000 small files, taken in, and a twin of it.
fn yard(place: &std::path::Path) -> (Yard, Listing) {
    for folder in 0..100 {
        let folder = place.join(format!("source/set{folder:02}"));
        std::fs::create_dir_all(&folder).unwrap();
        for file in 0..100 {
            std::fs::write(folder.join(format!("item{file:02}.dat")), format!("{folder:?} {file}")).unwrap();
        }
    }
    let (yard, ctx) = (Yard::init(&place.join("yard")).unwrap(), Ctx::new());
    let mut options = IntakeOptions::new(place.join("source"), Title::new("bench").unwrap());
    options.build = Some("1".parse().unwrap());
    let build = yard.apply_intake(&yard.plan_intake(options, &ctx).unwrap(), &ctx).unwrap().build;
    let name = TwinName::new("twin").unwrap();
    let plan = yard.plan_clone(&Source::Stock(build.clone()), &name, CloneOptions::default(), &ctx).unwrap();
    yard.apply_clone(&plan, &ctx).unwrap();
    let listing = yard.stock_details(&build).unwrap().1;
    (yard, listing)
}

fn benches(criterion: &mut Criterion) {
    let place = tempfile::tempdir().unwrap();
    let (yard, listing) = yard(place.path());
    let mut entries = listing.entries().to_vec();
    for entry in entries.iter_mut().step_by(100) {
        entry.path = RelPath::new(format!("{}.new", entry.path)).unwrap();
    }
    let changed = Listing::new(entries).unwrap();
    criterion.bench_function("id of 10,000 entries", |b| b.iter(|| black_box(&listing).id()));
    criterion.bench_function("difference of 1 % in 10,000", |b| b.iter(|| diff(&listing, black_box(&changed)).count()));
    let name = TwinName::new("twin").unwrap();
    criterion.bench_function("settle 10,000 unchanged files", |b| {
        b.iter(|| yard.twin_details(black_box(&name), &Ctx::new()).unwrap());
    });
}

criterion_group!(all, benches);
criterion_main!(all);
