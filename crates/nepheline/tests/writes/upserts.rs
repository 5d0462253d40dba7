//! Rows that may be there already.

use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;
use nepheline::{Upsert, Upserted};

use crate::support::engines;
use crate::tables::*;

#[test]
fn a_row_that_is_there_is_updated_or_kept() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let all = || {
            let query = Tray::rows().order_by(|t| t.label.asc());
            db.read(&query.select(|t| (t.label, t.grams, t.version)))
                .unwrap()
        };
        let weigh = |rows: &[(&str, i64)]| {
            let rows = rows.iter().map(|(label, grams)| tray(*label, *grams));
            Tray::insert_all(rows.collect::<Vec<_>>())
        };
        let add = |rows: &[(&str, i64)]| {
            weigh(rows).or_update(|t| t.label, |t, new| t.grams.set(t.grams + new.grams))
        };
        let told = |rows: &[(&str, i64, i64)]| -> Vec<(String, i64, i64)> {
            rows.iter()
                .map(|(label, grams, version)| ((*label).to_owned(), *grams, *version))
                .collect()
        };
        let kinds = |upsert: &Upsert<Tray>| {
            let Upserted { inserted, updated, kept, .. } = db.write_upsert(upsert).unwrap();
            [inserted, updated, kept]
        };
        assert_eq!(db.write(&add(&[("a", 1), ("b", 2)])).unwrap(), 2);
        assert_eq!(kinds(&add(&[("b", 10), ("c", 3)])), [1, 1, 0], "on {}", engine.name);
        assert_eq!(all(), told(&[("a", 1, 1), ("b", 12, 2), ("c", 3, 1)]), "on {}", engine.name);
        let kept = kinds(&weigh(&[("a", 99), ("d", 4)]).or_keep(|t| t.label));
        assert_eq!(kept, [1, 0, 1], "on {}", engine.name);
        let again = weigh(&[("a", 99), ("d", 4)]).or_keep(|t| t.label);
        assert_eq!(db.write(&again).unwrap(), 0, "on {}", engine.name);
        assert_eq!(all(), told(&[("a", 1, 1), ("b", 12, 2), ("c", 3, 1), ("d", 4, 1)]));

        // Rows of another agency, and withdrawn rows, are neither changed nor inserted again.
        let other = db.carrying(AgencyId(4));
        assert_eq!(other.write(&add(&[("a", 50)])).unwrap(), 0, "on {}", engine.name);
        let hidden = other.write_upsert(&add(&[("a", 50)])).unwrap();
        assert_eq!((hidden.updated, hidden.kept), (0, 1), "on {}", engine.name);
        // Nor is it given back.
        match other.write_returning(&add(&[("a", 50)])) {
            Ok(rows) => assert!(rows.is_empty(), "on {}: {rows:?}", engine.name),
            Err(err) => assert_eq!((engine.name, err.kind()), ("MariaDB", ErrorKind::Unsupported)),
        }
        assert_eq!(other.count(&Tray::rows()).unwrap(), 0);
        db.write(&Tray::row_by_label("d").delete()).unwrap();
        assert_eq!(db.write(&add(&[("d", 50), ("a", 0)])).unwrap(), 1, "on {}", engine.name);
        db.write(
            &Tray::row_by_label("a")
                .update(|t| t.grams.set(1))
                .expecting(2),
        )
        .unwrap();
        assert_eq!(all(), told(&[("a", 1, 3), ("b", 12, 2), ("c", 3, 1)]));

        // With a key of several columns.
        let place = |grams| Place::insert(PlaceToInsert { shelf_id: 1, slot: 2, grams });
        for grams in [5, 6] {
            let place =
                place(grams).or_update(|p| (p.shelf_id, p.slot), |p, new| p.grams.set(new.grams));
            assert_eq!(db.write(&place).unwrap(), 1);
            // Set to what it is, it is updated all the same: one meaning of the numbers on every engine.
            assert_eq!(db.write(&place).unwrap(), 1, "on {}", engine.name);
            let told = db.write_upsert(&place).unwrap();
            assert_eq!((told.inserted, told.updated, told.kept), (0, 1, 0), "on {}", engine.name);
        }
        assert_eq!(db.read_one(&Place::row((1, 2))).unwrap().grams, 6);
        // MariaDB's own idea of which names are the same decides there, and is told.
        let rigs = |rigs: &[(&str, i64)]| {
            let rigs = rigs
                .iter()
                .map(|(name, holes)| RigToInsert { name: (*name).into(), holes: *holes });
            Rig::insert_all(rigs.collect::<Vec<_>>())
        };
        db.write(&rigs(&[("Long Tom", 1), ("DR-7", 1)])).unwrap();
        let same_in_any_case = engine.name == "MariaDB";
        for names in [&["long tom"][..], &["DR-7", "LONG TOM", "DR-8"][..]] {
            let new: Vec<(&str, i64)> = names.iter().map(|name| (*name, 5)).collect();
            let upsert = rigs(&new).or_update(|r| r.name, |r, new| r.holes.set(new.holes));
            let told = db.write_upsert(&upsert).unwrap();
            let known = u64::from(names.len() == 3) + u64::from(same_in_any_case);
            let expected = (names.len() as u64 - known, known, 0);
            assert_eq!((told.inserted, told.updated, told.kept), expected, "on {}", engine.name);
        }
        let kept = db
            .write_upsert(&rigs(&[("dr-8", 1), ("DR-9", 1)]).or_keep(|r| r.name))
            .unwrap();
        let expected = if same_in_any_case { (1, 0, 1) } else { (2, 0, 0) };
        assert_eq!((kept.inserted, kept.updated, kept.kept), expected, "on {}", engine.name);

        // Known by what the handle fills, and by nothing where that is NULL.
        for expected in [(1, 0, 0), (0, 1, 0)] {
            let allowed = Allowance::insert(AllowanceToInsert { grams: 7 })
                .or_update(|a| a.agency_id, |a, new| a.grams.set(a.grams + new.grams));
            let told = db.write_upsert(&allowed).unwrap();
            assert_eq!((told.inserted, told.updated, told.kept), expected, "on {}", engine.name);
        }
        assert_eq!(db.read_one(&Allowance::row(AgencyId(3))).unwrap().grams, 14);
        for expected in [(3, 0, 0), (2, 0, 1)] {
            let badges = [None, Some(7), None].map(|code| BadgeToInsert { code });
            let told = db
                .write_upsert(&Badge::insert_all(badges).or_keep(|b| b.code))
                .unwrap();
            assert_eq!((told.inserted, told.updated, told.kept), expected, "on {}", engine.name);
        }

        // Many, in several statements.
        for (slots, expected) in [(1..=400, (400, 0)), (201..=500, (100, 200))] {
            let places = slots.map(|slot| PlaceToInsert { shelf_id: slot % 2 + 7, slot, grams: 0 });
            let places = Place::insert_all(places)
                .or_update(|p| (p.shelf_id, p.slot), |p, new| p.grams.set(new.grams));
            let told = db.write_upsert(&places).unwrap();
            assert_eq!((told.inserted, told.updated), expected, "on {}", engine.name);
        }

        // One engine sets one column after the other, and would read what it has just set.
        let swapped = place(1).or_update(
            |p| (p.shelf_id, p.slot),
            |p, new| (p.grams.set(new.grams), p.slot.set(p.grams)),
        );
        match db.write(&swapped) {
            Ok(_) => assert_eq!(db.read_one(&Place::row((1, 6))).unwrap().grams, 1),
            Err(err) => assert_eq!((engine.name, err.kind()), ("MariaDB", ErrorKind::Unsupported)),
        }

        // Two of the new rows that are one row, and a row that may be known in two ways.
        let twice = db.write(&add(&[("x", 1), ("x", 2)])).unwrap_err();
        assert_eq!(twice.kind(), ErrorKind::InvalidQuery);
        let by_slot = place(1).or_keep(|p| p.slot);
        let err = db.write(&by_slot).unwrap_err();
        let expected =
            if engine.name == "MariaDB" { ErrorKind::Unsupported } else { ErrorKind::Database };
        assert_eq!(err.kind(), expected, "on {}: {err:#}", engine.name);
    }
}
