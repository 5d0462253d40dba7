//! Marks instead of deletes, also of what belongs to a row, and back.

use std::sync::Mutex;

use nepheline::Clock;
use nepheline::blocking::{Database, RunsQueries};
use nepheline::prelude::*;

use crate::support::engines;
use crate::tables::*;

#[test]
fn children_are_retired_with_their_parents() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        db.write(&Pallet::insert_all((1..=3).map(|id| PalletToInsert { id, cleared_at: None })))
            .unwrap();
        let carton = |pallet_id, number| CartonToInsert { pallet_id, number, cleared_at: None };
        db.write(&Carton::insert_all([carton(1, 1), carton(1, 2), carton(2, 1), carton(3, 1)]))
            .unwrap();
        db.carrying(AgencyId(4))
            .write(&Carton::insert(carton(1, 9)))
            .unwrap();
        let seal = |id, pallet_id, number| SealToInsert { id, pallet_id, number, broken: None };
        db.write(&Seal::insert_all([
            seal(1, 1, 1),
            seal(2, 1, 2),
            seal(3, 2, 1),
            seal(4, 1, 9),
            seal(5, 3, 1),
        ]))
        .unwrap();

        // The rows are found before anything is retired, also by children that will be.
        let with_second =
            Pallet::rows().filter(|p| p.cartons().filter(|c| c.number.eq(2)).exists());
        let both = Pallet::rows()
            .filter(|p| p.id.eq(2) | with_second.clone().filter(|w| w.id.eq(p.id)).exists());
        let hours = Mutex::new(10..);
        let clock = Clock::new(move || at(hours.lock().unwrap().next().unwrap()));
        assert_eq!(db.carrying(clock).write(&both.delete()).unwrap(), 2, "on {}", engine.name);

        let cartons = Carton::rows()
            .waive_every_policy()
            .order_by(|c| (c.pallet_id.asc(), c.number.asc()));
        let cartons = db.read(&cartons).unwrap();
        let marks: Vec<_> = cartons.iter().map(|c| (c.cleared_at, c.version)).collect();
        let (cleared, left) = ((Some(at(10)), 2), (None, 1));
        // One time for all, and what a policy hides stays as it is, with what belongs to it.
        assert_eq!(marks, [cleared, cleared, left, cleared, left], "on {}", engine.name);
        let broken = db
            .read(&Seal::rows().order_by(|s| s.id.asc()).select(|s| s.broken))
            .unwrap();
        assert_eq!(broken, [Some(true), Some(true), Some(true), None, None]);
        let pallets = Pallet::rows().waive_every_policy().order_by(|p| p.id.asc());
        assert_eq!(
            db.read(&pallets.select(|p| p.cleared_at)).unwrap(),
            [Some(at(10)), Some(at(10)), None]
        );

        // Waived everywhere, no policy holds for the children either; in a transaction it is undone with it.
        let last = Pallet::row(3).waive_everywhere(own_carton).delete();
        let undone: Result<(), Error> = db.carrying(AgencyId(4)).transaction(|tx| {
            assert_eq!(tx.write_returning(&last)?.len(), 1);
            assert_eq!(
                tx.count(
                    &Carton::rows()
                        .waive(own_carton)
                        .filter(|c| c.pallet_id.eq(3))
                )?,
                0
            );
            Err(tx.read_one(&Pallet::row(77)).unwrap_err())
        });
        assert_eq!(undone.unwrap_err().kind(), ErrorKind::NotFound);
        assert_eq!(db.count(&Pallet::rows()).unwrap(), 1);
        assert_eq!(db.count(&Carton::rows()).unwrap(), 1);
        // Deleted for good, the children are left to the database.
        assert_eq!(db.write(&Pallet::row(3).delete_for_good()).unwrap(), 1);
        assert_eq!(db.count(&Carton::rows()).unwrap(), 1);
    }
}

#[test]
fn what_was_retired_can_be_restored() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        db.write(&Tray::insert_all((1..=3).map(|i| tray(format!("R{i}"), i))))
            .unwrap();
        let later = db.carrying(Clock::stopped_at(at(10)));
        let light = Tray::rows().filter(|t| t.grams.le(2));
        assert_eq!(later.write(&light.clone().delete()).unwrap(), 2);
        assert_eq!(later.write(&light.clone().delete()).unwrap(), 0, "they are hidden already");
        let marked = light.clone().waive(not_withdrawn);
        assert_eq!(
            db.carrying(Clock::stopped_at(at(11)))
                .write(&marked.clone().delete())
                .unwrap(),
            0
        );
        let marks = db.read(&marked.clone().select(|t| t.withdrawn_at)).unwrap();
        assert_eq!(marks, [Some(at(10)); 2], "the first mark stays");

        let restored = Tray::row_by_label("R1").waive(not_withdrawn);
        let restored = restored.update(|t| t.withdrawn_at.set_null());
        assert_eq!(db.write(&restored).unwrap(), 1);
        assert_eq!(db.count(&Tray::rows()).unwrap(), 2);

        let all = Tray::rows().waive_everywhere(not_withdrawn);
        assert_eq!(db.write(&all.delete_for_good().every_row()).unwrap(), 3);
        assert_eq!(db.count(&Tray::rows().waive_every_policy()).unwrap(), 0);
    }
}

/// Two tables that would each retire the rows of the other.
#[derive(Debug, Table)]
#[nepheline(children(lids: Lid by jar_id), retire(gone_on, with(lids)))]
struct Jar {
    #[nepheline(key)]
    id: i64,
    lid_id: i64,
    gone_on: Option<Date>,
}

#[derive(Debug, Table)]
#[nepheline(children(jars: Jar by lid_id), retire(gone_on, with(jars)))]
struct Lid {
    #[nepheline(key)]
    id: i64,
    jar_id: i64,
    gone_on: Option<Date>,
}

#[test]
fn tables_that_retire_each_other_come_to_an_end() {
    let db = Database::open("sqlite::memory:").unwrap();
    let err = db.write(&Jar::row(1).delete()).unwrap_err();
    assert_eq!(err.kind(), ErrorKind::InvalidQuery);
    assert!(
        err.to_string()
            .contains("in a circle with `retire(.., with(..))`"),
        "{err}"
    );
    // Deleted for good, none of that matters.
    assert!(Jar::row(1).delete_for_good().sql(Dialect::Sqlite).is_ok());
}
