//! Writes stay inside the policies. Generated writes of one agency run on a database with the rows of two, and again
//! without those of the other: both give the same answers and leave the same rows, and the other agency's rows
//! stay as they were.

use std::fmt::Debug;

use nepheline::blocking::{Database, RunsQueries};
use nepheline::prelude::*;
use proptest::prelude::*;
use proptest::sample::select;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;

use crate::alone;
use crate::support::{Engine, engines};
use crate::world::*;

/// The form of a write.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    InsertSite,
    InsertBoreholes,
    InsertSpecimens,
    InsertAssays,
    InsertTagged,
    InsertStream,
    InsertFromQuery,
    MoveSpecimen,
    MoveSpecimensByExpression,
    MoveAssaysToSubquery,
    MoveBorehole,
    HandOverSite,
    HandOverSiteByExpression,
    SetAnalyst,
    SetParentReturning,
    MoveTagged,
    Retag,
    UpsertAssays,
    UpsertMovingAssays,
    DeleteAssays,
    InTransaction,
}

impl Kind {
    const ALL: [Kind; 21] = [
        Kind::InsertSite,
        Kind::InsertBoreholes,
        Kind::InsertSpecimens,
        Kind::InsertAssays,
        Kind::InsertTagged,
        Kind::InsertStream,
        Kind::InsertFromQuery,
        Kind::MoveSpecimen,
        Kind::MoveSpecimensByExpression,
        Kind::MoveAssaysToSubquery,
        Kind::MoveBorehole,
        Kind::HandOverSite,
        Kind::HandOverSiteByExpression,
        Kind::SetAnalyst,
        Kind::SetParentReturning,
        Kind::MoveTagged,
        Kind::Retag,
        Kind::UpsertAssays,
        Kind::UpsertMovingAssays,
        Kind::DeleteAssays,
        Kind::InTransaction,
    ];
}

/// A write of a kind, with the numbers that it is made with.
#[derive(Debug, Clone, Copy)]
struct Written {
    kind: Kind,
    /// The key of the row that is changed.
    id: i64,
    /// The keys of the rows that are referred to. Some exist nowhere.
    to: [i64; 2],
    agency: i64,
    least: i64,
}

fn writes() -> impl Strategy<Value = Written> {
    let to = [1..14_i64, 1..56_i64];
    (select(Kind::ALL.to_vec()), 1..51_i64, to, 1..3_i64, 0..100_i64)
        .prop_map(|(kind, id, to, agency, least)| Written { kind, id, to, agency, least })
}

/// Runs a write whose new rows have keys from `new` on, and returns all that it tells. Upserts match only `own` assays,
/// because a collision with a hidden key tells that it exists.
fn outcome(db: &Database, written: Written, new: i64, own: &[i64]) -> String {
    fn told<R: Debug>(outcome: Result<R, Error>) -> String {
        match outcome {
            Ok(outcome) => format!("{outcome:?}"),
            Err(err) => {
                let text = err.to_string();
                let text = text.split("; the SQL was").next().unwrap_or_default();
                format!("{:?}: {text}", err.kind())
            }
        }
    }
    let Written { kind, id, to: [borehole, specimen], agency, least } = written;
    let specimens = |of: [i64; 2]| {
        let made = of
            .into_iter()
            .enumerate()
            .map(|(i, borehole_id)| SpecimenToInsert {
                id: new + i as i64,
                label: format!("NEW-{}", new + i as i64),
                borehole_id,
                analyst_id: None,
                parent_id: (least > 50).then_some(specimen),
                grams: least,
                withdrawn_at: None,
                secret: 0,
            });
        Specimen::insert_all(made.collect::<Vec<_>>())
    };
    let assay = |id: i64, specimen_id: i64| AssayToInsert {
        id,
        specimen_id,
        element: "Zr".to_owned(),
        ppm: least,
        secret: 0,
    };
    let own = |number: i64| {
        own.get(number as usize % own.len().max(1))
            .copied()
            .unwrap_or(new + 1)
    };
    match kind {
        Kind::InsertSite => {
            let region = "North".to_owned();
            told(db.write(&Site::insert(SiteToInsert {
                id: new,
                agency_id: agency,
                region,
                closed_on: None,
                secret: 0,
            })))
        }
        Kind::InsertBoreholes => {
            let made = [borehole % 7, 1].map(|site_id| BoreholeToInsert {
                id: new + site_id,
                site_id,
                depth_m: 5.0,
                secret: 0,
            });
            told(db.write(&Borehole::insert_all(made)))
        }
        Kind::InsertSpecimens => told(db.write_returning(&specimens([borehole, borehole % 3 + 1]))),
        Kind::InsertAssays => {
            let rows = (0..9).map(|i| assay(new + i, if i == 7 { specimen } else { id }));
            told(db.write(&Assay::insert_all(rows.collect::<Vec<_>>())))
        }
        Kind::InsertTagged => {
            told(db.write(&Tagged::insert(TaggedToInsert {
                specimen_id: specimen,
                tag_id: TAGS + new,
            })))
        }
        Kind::InsertStream => {
            let rows = (0..3_000).map(|i| assay(new + i, if i == 2_999 { specimen } else { id }));
            told(db.insert_stream(rows))
        }
        Kind::InsertFromQuery => {
            let copies = Specimen::rows().filter(|s| s.grams.ge(least)).select(|s| {
                let (id, element, shift) = (s.id + new, bind("Zr"), bind(agency - 1));
                shape!(crate::Copied {
                    id,
                    specimen_id: s.id + shift,
                    element,
                    ppm: s.grams,
                    secret: bind(0)
                })
            });
            told(db.write(&copies.insert_into::<Assay>()))
        }
        Kind::MoveSpecimen => {
            let moved = Specimen::row(id).update(|s| s.borehole_id.set(borehole));
            told(db.write(&moved))
        }
        Kind::MoveSpecimensByExpression => {
            let moved = Specimen::rows().filter(|s| s.grams.ge(least));
            told(db.write(&moved.update(|s| s.borehole_id.set(s.borehole_id + (agency - 1)))))
        }
        Kind::MoveAssaysToSubquery => {
            let moved = Assay::rows().filter(|a| a.specimen_id.eq(id)).update(|a| {
                let to = Tagged::rows().filter(|t| t.tag_id.eq(agency));
                a.specimen_id.set(
                    to.select(|t| min(t.specimen().id))
                        .value()
                        .coalesce(specimen),
                )
            });
            told(db.write(&moved))
        }
        Kind::MoveBorehole => {
            let moved = Borehole::rows().filter(|b| b.id.eq(borehole));
            told(db.write(&moved.update(|b| (b.site_id.set(id % 7 + 1), b.depth_m.set(7.0)))))
        }
        Kind::HandOverSite => {
            let handed = Site::rows().filter(|s| s.id.ge(borehole % 7));
            told(db.write(&handed.update(|s| s.agency_id.set(agency))))
        }
        Kind::HandOverSiteByExpression => {
            let handed = Site::rows().filter(|s| s.id.ge(borehole % 7));
            told(db.write(&handed.update(|s| s.agency_id.set(s.agency_id + (agency - 1)))))
        }
        Kind::SetAnalyst => {
            let analyst = (least > 20).then_some(borehole % 6);
            let set = Specimen::rows().filter(|s| s.grams.ge(least));
            told(db.write(&set.update(|s| s.analyst_id.set_maybe(analyst))))
        }
        Kind::SetParentReturning => {
            let set = Specimen::row(id).update(|s| s.parent_id.set(specimen));
            told(db.write_returning(&set))
        }
        Kind::MoveTagged => {
            let moved = Tagged::rows().filter(|t| t.specimen().id.eq(id) & t.tag_id.eq(agency));
            told(db.write(&moved.update(|t| t.specimen_id.set(specimen))))
        }
        Kind::Retag => {
            let retagged = Tagged::rows().filter(|t| t.specimen().grams.ge(least) & t.tag_id.eq(1));
            told(db.write(&retagged.update(|t| t.tag_id.set(t.tag_id + new))))
        }
        Kind::UpsertAssays => {
            let rows = [own(id), own(id + 1), new].map(|key| assay(key, specimen));
            told(db.write_upsert(
                &Assay::insert_all(rows).or_update(|a| a.id, |a, n| a.ppm.set(n.ppm)),
            ))
        }
        Kind::UpsertMovingAssays => {
            let rows = [own(id), new].map(|key| assay(key, specimen));
            let moves = Assay::insert_all(rows)
                .or_update(|a| a.id, |a, n| (a.specimen_id.set(n.specimen_id), a.ppm.set(n.ppm)));
            told(db.write(&moves))
        }
        Kind::DeleteAssays => told(
            db.write(
                &Assay::rows()
                    .filter(|a| a.specimen_id.eq(specimen))
                    .delete(),
            ),
        ),
        Kind::InTransaction => told(db.transaction(|tx| {
            let first = tx.write(&Specimen::row(id).update(|s| s.grams.set(least)))?;
            let inner = tx.transaction(|tx| tx.write(&specimens([borehole, borehole])));
            let last = tx.write(&Assay::insert(assay(new, id)));
            Ok::<_, Error>((first, told(inner), told(last)))
        })),
    }
}

/// Reads all rows, whoever they belong to.
fn dump(db: &Database) -> World {
    macro_rules! all {
        ($table:ident, $by:expr) => {
            db.read(&$table::rows().waive_every_policy().order_by($by))
                .unwrap()
        };
    }
    World {
        sites: all!(Site, |t| t.id.asc()),
        boreholes: all!(Borehole, |t| t.id.asc()),
        analysts: all!(Analyst, |t| t.id.asc()),
        specimens: all!(Specimen, |t| t.id.asc()),
        assays: all!(Assay, |t| t.id.asc()),
        tagged: all!(Tagged, |t| (t.specimen_id.asc(), t.tag_id.asc())),
    }
}

/// The number of writes to each world.
pub(crate) const EACH: usize = 40;

/// Runs generated writes, and returns their number.
pub(crate) fn writes_stay_inside(engine: &Engine, worlds: usize) -> usize {
    let db = prepared(engine);
    let mut runner = TestRunner::deterministic();
    let mut seen = [[0, 0]; Kind::ALL.len()];
    for _ in 0..worlds {
        let world = World::of(|below| (0..below).new_tree(&mut runner).unwrap().current());
        let world = world.without_crossings();
        let drawn = (0..EACH).map(|_| writes().new_tree(&mut runner).unwrap().current());
        let drawn: Vec<Written> = drawn.collect();
        let own: Vec<i64> = world.of_agency(1).assays.iter().map(|a| a.id).collect();
        let run = |world: &World| {
            world.fill(engine, &db);
            let numbers = (1_000_000..).step_by(10_000);
            let told = drawn
                .iter()
                .zip(numbers)
                .map(|(written, new)| outcome(&db, *written, new, &own));
            (told.collect::<Vec<_>>(), dump(&db))
        };
        let (told, after) = run(&world);
        let (told_alone, alone_after) = run(&world.of_agency(1));
        for ((written, told), alone) in drawn.iter().zip(&told).zip(&told_alone) {
            assert_eq!(told, alone, "on {}: {written:?}", engine.name);
            let [done, refused] = &mut seen[written.kind as usize];
            let refusals = ["ParentNotFound", "PolicyViolation"];
            *done += usize::from(!refusals.iter().any(|kind| told.starts_with(kind)));
            *refused += usize::from(refusals.iter().any(|kind| told.contains(kind)));
        }
        assert_eq!(after.of_agency(2), world.of_agency(2), "on {}", engine.name);
        assert_eq!(after.of_agency(1), alone_after, "on {}", engine.name);
        // Each row belongs to one of both, and none refers to a row of the other.
        assert_eq!(
            after.rows(),
            alone_after.rows() + world.of_agency(2).rows(),
            "on {}",
            engine.name
        );
        assert_eq!(after.clone().without_crossings(), after, "on {}", engine.name);
    }
    // Every kind has been done, and each that can be has been refused.
    for (kind, [done, refused]) in Kind::ALL.into_iter().zip(seen) {
        let is_refused = !matches!(kind, Kind::Retag | Kind::DeleteAssays);
        assert!(done > 0, "{kind:?} was never done on {}", engine.name);
        assert!(refused > 0 || !is_refused, "{kind:?} was never refused on {}", engine.name);
    }
    worlds * EACH
}

#[test]
fn nobody_writes_outside() {
    let _alone = alone();
    std::thread::scope(|scope| {
        for engine in engines() {
            scope.spawn(move || writes_stay_inside(&engine, 14));
        }
    });
}
