//! Which rows are changed, what they are then, and what comes back.

use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;
use nepheline::{Clock, StatementLog};

use crate::support::{Engine, engines};
use crate::tables::*;

#[test]
fn what_is_stored_is_what_comes_back() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let stored = db
            .write_returning_one(&Tray::insert(tray("KP '1' \" ` \\ ø", 40)))
            .unwrap();
        let read = db.read_one(&Tray::row(stored.id)).unwrap();
        assert_eq!(stored, read, "on {}", engine.name);
        assert_eq!((stored.agency_id, stored.version), (AgencyId(3), 1));
        assert_eq!((stored.made_at, stored.written_at), (at(8), at(8)));

        let later = db.carrying(Clock::stopped_at(at(9)));
        let heavier = Tray::row(stored.id).update(|t| {
            (t.grams.set(t.grams * 2 + 1), t.note.set("weighed"), t.shelf_id.set_maybe(None::<i64>))
        });
        assert_eq!(later.write(&heavier).unwrap(), 1);
        let read = db.read_one(&Tray::row_by_label(stored.label)).unwrap();
        assert_eq!((read.grams, read.note.as_deref(), read.version), (81, Some("weighed"), 2));
        assert_eq!((read.made_at, read.written_at), (at(8), at(9)));

        // Found, though nothing changes: one meaning of the number on every engine.
        let same = Place::row((1, 1)).update(|p| p.grams.set(5));
        assert_eq!(db.write(&same).unwrap(), 0);
        db.write(&Place::insert(PlaceToInsert { shelf_id: 1, slot: 1, grams: 5 }))
            .unwrap();
        assert_eq!(db.write(&same).unwrap(), 1, "on {}", engine.name);

        let tickets = Ticket::insert_all([TicketToInsert {}, TicketToInsert {}]);
        assert_eq!(db.write_returning(&tickets).unwrap(), [Ticket { id: 1 }, Ticket { id: 2 }]);
        let record = StatementLog::new();
        assert_eq!(db.logging_to(&record).write(&tickets).unwrap(), 2, "on {}", engine.name);
        assert!(
            record
                .all()
                .iter()
                .all(|ran| ran.sql().starts_with("INSERT"))
        );
        assert_eq!(db.write(&Tray::insert_all([])).unwrap(), 0);
    }
}

#[test]
fn rows_come_back_from_updates() {
    let _alone = alone();
    for engine in engines() {
        let (db, record) = (prepared(&engine), StatementLog::new());
        db.write(&Tray::insert_all((1..=3).map(|i| tray(format!("T{i}"), i))))
            .unwrap();
        let heavier = Tray::rows()
            .filter(|t| t.grams.ge(2))
            .update(|t| t.grams.set(t.grams + 10));
        let mut rows = db.logging_to(&record).write_returning(&heavier).unwrap();
        rows.sort_by_key(|row| row.id);
        assert_eq!(rows.iter().map(|row| row.grams).collect::<Vec<_>>(), [12, 13]);
        // Where it takes several statements, each is seen.
        assert_eq!(record.len().to_string(), engine.pick("1", "1", "3"), "on {}", engine.name);
        assert_eq!(
            rows,
            db.read(
                &Tray::rows()
                    .filter(|t| t.grams.ge(2))
                    .order_by(|t| t.id.asc())
            )
            .unwrap()
        );

        // Also when they are hidden from then on, and when they are not found by what found them any more.
        let gone = db.write_returning(&Tray::row(2).delete()).unwrap();
        assert_eq!(gone.iter().map(|t| t.withdrawn_at).collect::<Vec<_>>(), [Some(at(8))]);
        assert!(
            db.write_returning(&Tray::row(2).delete())
                .unwrap()
                .is_empty()
        );
        let unseen = Tray::row(3).update(|t| t.grams.set(1)).expecting(7);
        assert_eq!(db.write_returning(&unseen).unwrap_err().kind(), ErrorKind::StaleVersion);
        let seen = Tray::row(3).update(|t| t.grams.set(1)).expecting(2);
        assert_eq!(db.write_returning_one(&seen).unwrap().version, 3, "on {}", engine.name);

        // With a key of several columns, and one that is set.
        db.write(&Place::insert_all((1..=3).map(|slot| PlaceToInsert {
            shelf_id: 1,
            slot,
            grams: 9,
        })))
        .unwrap();
        let lighter = Place::rows()
            .filter(|p| p.slot.ge(2))
            .update(|p| p.grams.set(p.slot));
        let mut rows = db.write_returning(&lighter).unwrap();
        rows.sort_by_key(|row| row.slot);
        assert_eq!(rows.iter().map(|p| p.grams).collect::<Vec<_>>(), [2, 3], "on {}", engine.name);
        let moved = Place::row((1, 1)).update(|p| p.shelf_id.set(2));
        match db.write_returning_one(&moved) {
            Ok(place) => assert_eq!(place.shelf_id, 2),
            Err(err) => assert_eq!((engine.name, err.kind()), ("MariaDB", ErrorKind::Unsupported)),
        }
        let gone = db
            .write_returning(&Place::rows().delete().every_row())
            .unwrap();
        assert_eq!(gone.len(), 3);
    }
}

#[test]
fn a_text_that_is_kept_has_the_policies_and_the_time_of_each_run() {
    let _alone = alone();
    let heavier = <(String, i64)>::prepare(|(begins, grams)| {
        Tray::rows()
            .filter(|t| t.label.ge(begins))
            .update(|t| t.grams.set(t.grams + grams))
    });
    let withdrawn = <(String,)>::prepare(|(label,)| Tray::row_by_label(label).delete());
    for engine in engines() {
        let log = StatementLog::new();
        let db = prepared(&engine).logging_to(&log);
        for agency in [3, 4] {
            let trays = (1..=3).map(|i| tray(format!("{agency}-{i}"), 10 * agency + i));
            let own = db.carrying(AgencyId(agency));
            own.write(&Tray::insert_all(trays)).unwrap();
        }
        for (hour, agency) in [(9, 3), (10, 4), (11, 4), (12, 3)] {
            let own = db
                .carrying(AgencyId(agency))
                .carrying(Clock::stopped_at(at(hour)));
            let read = || own.read(&Tray::rows().order_by(|t| t.id.asc())).unwrap();
            let mut model = read();
            assert_eq!(
                own.write(&heavier.bind((format!("{agency}-2"), 5)))
                    .unwrap()
                    + 1,
                model.len() as u64
            );
            let one = Tray::row(model[0].id).update(|t| t.note.set(format!("at {hour}")));
            assert_eq!(own.write(&one).unwrap(), 1, "on {}", engine.name);
            model[0].note = Some(format!("at {hour}"));
            for tray in &mut model {
                tray.grams += if tray.label.ends_with("-1") { 0 } else { 5 };
                (tray.version, tray.written_at) = (tray.version + 1, at(hour));
            }
            assert_eq!(read(), model, "{agency} at {hour} on {}", engine.name);
            // The trays of others, and those that are withdrawn.
            let others = db.carrying(AgencyId(7 - agency));
            let same = Tray::row(model[0].id).update(|t| t.grams.set(0));
            assert_eq!(others.write(&same).unwrap(), 0, "on {}", engine.name);
            assert_eq!(others.write(&Tray::row(model[0].id).delete()).unwrap(), 0);
            assert_eq!(
                others
                    .write(&withdrawn.bind((model[1].label.clone(),)))
                    .unwrap(),
                0
            );
            if hour > 10 {
                assert_eq!(
                    own.write(&withdrawn.bind((model[1].label.clone(),)))
                        .unwrap(),
                    1
                );
                assert_eq!(
                    own.write(&withdrawn.bind((model[1].label.clone(),)))
                        .unwrap(),
                    0
                );
                assert_eq!(own.write(&Tray::row(model[2].id).delete()).unwrap(), 1);
                let gone = own.read(&Tray::rows().waive(not_withdrawn)).unwrap();
                let marks = gone.iter().map(|t| (t.withdrawn_at, t.written_at));
                let expected =
                    [(None, at(hour)), (Some(at(hour)), at(hour)), (Some(at(hour)), at(hour))];
                assert_eq!(marks.collect::<Vec<_>>(), expected, "on {}", engine.name);
            }
        }
        let texts: std::collections::BTreeSet<_> =
            log.all().iter().map(|ran| ran.sql().to_owned()).collect();
        let updates = texts.iter().filter(|text| text.starts_with("UPDATE"));
        // Two updates, two deletes and that of nothing.
        assert_eq!(updates.count(), 5, "on {}: {texts:#?}", engine.name);
    }
}

#[test]
fn a_row_is_retired_or_deleted_for_good_whatever_was_asked_before() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        db.write(&Tray::insert_all((1..=4).map(|i| tray(format!("T{i}"), i))))
            .unwrap();
        assert_eq!(db.write(&Tray::row(1).delete()).unwrap(), 1);
        assert_eq!(db.write(&Tray::row(2).delete_for_good()).unwrap(), 1);
        assert_eq!(db.write(&Tray::row(3).delete()).unwrap(), 1);
        assert_eq!(db.write(&Tray::row(4).delete_for_good()).unwrap(), 1);
        let left = Tray::rows().waive(not_withdrawn).order_by(|t| t.id.asc());
        let left = db.read(&left).unwrap().into_iter();
        let left: Vec<_> = left.map(|t| (t.id, t.withdrawn_at)).collect();
        assert_eq!(left, [(1, Some(at(8))), (3, Some(at(8)))], "on {}", engine.name);
    }
}

#[test]
fn async_handles_write_as_blocking_ones_do() {
    let _alone = alone();
    for engine in engines() {
        prepared(&engine);
        let runtime = tokio::runtime::Runtime::new().unwrap();
        runtime.block_on(written_async(&engine));
    }
}

async fn written_async(engine: &Engine) {
    use nepheline::RunsQueries as _;
    let db = engine.open_async().await.carrying(AgencyId(3));
    let rows = (1..=120).map(|i| tray(format!("A{i}"), i));
    assert_eq!(db.write(&Tray::insert_all(rows)).await.unwrap(), 120);
    let twice = Tray::insert_all([tray("B1", 1), tray("A7", 2)]);
    let err = db.write(&twice).await.unwrap_err();
    assert_eq!((err.kind(), err.row()), (ErrorKind::UniqueViolation, Some(2)));
    let removed = db
        .transaction(async |tx| {
            let heavy = Tray::rows().filter(|t| t.grams.gt(100));
            let heavy = tokio::spawn(async move { tx.write(&heavy.delete()).await });
            heavy.await.unwrap()
        })
        .await;
    assert_eq!(removed.unwrap(), 20);
    assert_eq!(db.count(&Tray::rows()).await.unwrap(), 100);

    let known = Tray::insert_all([tray("A1", 5), tray("C1", 5)]);
    let known = known.or_update(|t| t.label, |t, new| t.grams.set(new.grams));
    let told = db.write_upsert(&known).await.unwrap();
    assert_eq!((told.inserted, told.updated, told.kept), (1, 1, 0), "on {}", engine.name);
    let of_five = Tray::rows().filter(|t| t.grams.eq(5));
    let rows = db
        .write_returning(&of_five.update(|t| t.grams.set(6)))
        .await
        .unwrap();
    assert_eq!(rows.iter().map(|t| t.grams).collect::<Vec<_>>(), [6; 3], "on {}", engine.name);

    let pallet = PalletToInsert { id: 1, cleared_at: None };
    db.write(&Pallet::insert(pallet)).await.unwrap();
    let carton = CartonToInsert { pallet_id: 1, number: 1, cleared_at: None };
    db.write(&Carton::insert(carton)).await.unwrap();
    assert_eq!(db.write(&Pallet::row(1).delete()).await.unwrap(), 1);
    assert!(!db.exists(&Carton::rows()).await.unwrap(), "on {}", engine.name);
}

#[test]
fn rows_are_found_by_all_that_queries_can_ask() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        db.write(&Shelf::insert_all([
            ShelfToInsert { id: 1, load_g: 100 },
            ShelfToInsert { id: 2, load_g: 900 },
        ]))
        .unwrap();
        let shelved =
            |i: i64| TrayToInsert { shelf_id: Some(i % 2 + 1), ..tray(format!("S{i}"), i) };
        db.write(&Tray::insert_all((0..10).map(shelved))).unwrap();
        let grams = || {
            let query = Tray::rows().order_by(|t| t.id.asc()).select(|t| t.grams);
            db.read(&query).unwrap()
        };

        // By a parent that is followed, and by a query inside.
        let of_strong = Tray::rows().filter(|t| t.shelf().map(|s| s.load_g).gt(500));
        let lighter = of_strong.clone().update(|t| t.grams.set(t.grams - t.grams));
        assert_eq!(db.write(&lighter).unwrap(), 5, "on {}", engine.name);
        assert_eq!(grams(), [0, 0, 2, 0, 4, 0, 6, 0, 8, 0]);

        // To a value of another table.
        let as_strong = Tray::rows().filter(|t| t.shelf_id.eq(1)).update(|t| {
            let load = Shelf::rows()
                .filter(|s| s.id.eq(t.shelf_id))
                .select(|s| s.load_g);
            t.grams.set(load.value().coalesce(0) + t.grams)
        });
        assert_eq!(db.write(&as_strong).unwrap(), 5);
        assert_eq!(grams(), [100, 0, 102, 0, 104, 0, 106, 0, 108, 0]);

        // In an order, up to a limit.
        let heaviest = Tray::rows().order_by(|t| t.grams.desc()).limit(2);
        assert_eq!(db.write(&heaviest.delete_for_good()).unwrap(), 2, "on {}", engine.name);
        assert_eq!(grams(), [100, 0, 102, 0, 104, 0, 0, 0]);
        assert_eq!(db.write(&of_strong.delete_for_good()).unwrap(), 5);
        assert_eq!(grams(), [100, 102, 104]);

        // With a key of several columns.
        db.write(&Place::insert_all((1..=3).map(|slot| PlaceToInsert {
            shelf_id: 1,
            slot,
            grams: slot,
        })))
        .unwrap();
        let joined = Place::rows().filter(|p| p.grams.ge(2));
        let joined = joined.filter(|p| Shelf::rows().filter(|s| s.id.eq(p.shelf_id)).exists());
        assert_eq!(db.write(&joined.delete()).unwrap(), 2);
    }
}

#[test]
fn a_row_that_somebody_else_wrote_is_not_overwritten() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let stored = db
            .write_returning_one(&Tray::insert(tray("V1", 1)))
            .unwrap();
        let set = |grams: i64| {
            let update = Tray::row(stored.id).update(|t| t.grams.set(grams));
            update.expecting(stored.version)
        };
        assert_eq!(db.write(&set(2)).unwrap(), 1);
        let err = db.write(&set(3)).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::StaleVersion, "on {}", engine.name);
        assert_eq!(db.read_one(&Tray::row(stored.id)).unwrap().grams, 2);
    }
}
