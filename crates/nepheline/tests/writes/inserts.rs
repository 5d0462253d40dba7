//! Many rows at once, of an iterator and of a query.

use nepheline::StatementLog;
use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;

use crate::support::engines;
use crate::tables::*;

#[test]
fn many_rows_are_written_together_or_not_at_all() {
    let _alone = alone();
    for engine in engines() {
        let (db, record) = (prepared(&engine), StatementLog::new());
        let db = db.logging_to(&record);
        let rows = |count: i64| (1..=count).map(|i| tray(format!("M{i:04}"), i));
        assert_eq!(db.write(&Tray::insert_all(rows(2_500))).unwrap(), 2_500);
        let statements = engine.pick("13", "1", "25");
        assert_eq!(record.len().to_string(), statements, "on {}", engine.name);

        // The 1,777th row is there already.
        let mut more: Vec<TrayToInsert> = (0..2_000).map(|i| tray(format!("N{i:04}"), i)).collect();
        more[1_776].label = "M0001".to_owned();
        let err = db.write(&Tray::insert_all(more)).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::UniqueViolation, "on {}: {err:#}", engine.name);
        assert_eq!(err.row(), Some(1_777), "on {}", engine.name);
        assert_eq!(db.count(&Tray::rows()).unwrap(), 2_500);

        // In a transaction the same, and one around it goes on.
        let kept = db.transaction(|tx| {
            tx.write(&Tray::insert(tray("before", 1)))?;
            let twice = Tray::insert_all([tray("P1", 1), tray("P2", 2), tray("P1", 3)]);
            let err = tx.transaction(|inner| inner.write(&twice)).unwrap_err();
            assert_eq!((err.kind(), err.row()), (ErrorKind::UniqueViolation, Some(3)));
            tx.write(&Tray::insert(tray("after", 1)))
        });
        assert_eq!(kept.unwrap(), 1, "on {}", engine.name);
        assert_eq!(db.count(&Tray::rows()).unwrap(), 2_502);
    }
}

/// The columns that a query gives for a place.
#[derive(Debug, RowShape)]
#[allow(dead_code, reason = "only the database reads it")]
struct Placed {
    shelf_id: i64,
    slot: i64,
    grams: i64,
}

#[test]
fn rows_of_a_query_and_of_an_iterator_are_inserted() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let rows = |count: i64| (1..=count).map(|i| tray(format!("E{i}"), i % 7));
        assert_eq!(db.insert_stream(rows(12_345)).unwrap(), 12_345, "on {}", engine.name);
        // The 11,002nd of these is there already, and then none of them is.
        let again =
            (1..=11_100).map(|i| tray(format!("E{}", if i == 11_002 { 5 } else { i + 90_000 }), 1));
        let err = db.insert_stream(again).unwrap_err();
        assert_eq!(
            (err.kind(), err.row()),
            (ErrorKind::UniqueViolation, Some(11_002)),
            "on {}",
            engine.name
        );
        assert_eq!(db.count(&Tray::rows()).unwrap(), 12_345);

        // Totals, inserted by the database alone; of hidden rows there are none.
        db.write(&Tray::rows().filter(|t| t.grams.eq(6)).delete())
            .unwrap();
        let totals = Tray::rows().select(|t| {
            shape!(Placed {
                shelf_id: per(t.grams),
                slot: count(),
                grams: sum(t.grams).coalesce(0)
            })
        });
        assert_eq!(db.write(&totals.insert_into::<Place>()).unwrap(), 6, "on {}", engine.name);
        let five = db
            .read_one(&Place::rows().filter(|p| p.shelf_id.eq(5)))
            .unwrap();
        assert_eq!((five.slot, five.grams), (1_763, 8_815));
        // Carried values and stamps are added to the columns of the query.
        let copies = Tray::rows().filter(|t| t.id.le(3)).select(|t| {
            let label = bind("copy of ").concat(t.label);
            shape!(Copied {
                shelf_id: t.shelf_id,
                label,
                grams: t.grams,
                note: t.note,
                withdrawn_at: t.withdrawn_at
            })
        });
        let stored = db.write_returning(&copies.insert_into::<Tray>());
        let stored = stored.unwrap_or_else(|err| panic!("on {}: {err:#}", engine.name));
        assert!(
            stored
                .iter()
                .all(|t| t.agency_id == AgencyId(3) && t.version == 1 && t.made_at == at(8))
        );
        assert_eq!(stored.len(), 3);
    }
    let unfit = Place::rows()
        .select(|p| shape!(Slot { slot: p.slot }))
        .insert_into::<Place>();
    assert_eq!(unfit.sql(Dialect::Sqlite).unwrap_err().kind(), ErrorKind::InvalidQuery);
}

#[derive(Debug, RowShape)]
#[allow(dead_code, reason = "only the database reads it")]
struct Slot {
    slot: i64,
}

#[derive(Debug, RowShape)]
#[allow(dead_code, reason = "only the database reads it")]
struct Copied {
    shelf_id: Option<i64>,
    label: String,
    grams: i64,
    note: Option<String>,
    withdrawn_at: Option<Timestamp>,
}
