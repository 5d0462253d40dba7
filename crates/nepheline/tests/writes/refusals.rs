//! Violated constraints, invalid writes, and the SQL of all writes in every dialect.

use nepheline::Clock;
use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;

use crate::support::engines;
use crate::tables::*;

#[test]
fn what_a_table_does_not_allow_is_told_apart() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        db.write(&Tray::insert(tray("C1", 1))).unwrap();
        let refused = |row: TrayToInsert| {
            let err = db.write(&Tray::insert(row)).unwrap_err();
            let told = [err.constraint(), err.table(), err.column()];
            (err.kind(), told.map(|name| name.map(str::to_owned)))
        };
        let told =
            |sqlite: [Option<&str>; 3], postgres: [Option<&str>; 3], mariadb: [Option<&str>; 3]| {
                let told = match engine.name {
                    "SQLite" => sqlite,
                    "PostgreSQL" => postgres,
                    _ => mariadb,
                };
                told.map(|name| name.map(str::to_owned))
            };
        let table = Some("write_tray");
        let unique = told(
            [None, table, Some("label")],
            [Some("tray_label"), table, None],
            [Some("tray_label"), table, None],
        );
        assert_eq!(refused(tray("C1", 1)), (ErrorKind::UniqueViolation, unique));
        let key = [Some("tray_shelf"), table, None];
        let foreign = told([None, table, None], key, key);
        let unshelved = TrayToInsert { shelf_id: Some(77), ..tray("C2", 1) };
        assert_eq!(refused(unshelved), (ErrorKind::ParentNotFound, foreign));
        let weighs = [Some("tray_weighs"), table, None];
        let check = told(weighs, weighs, weighs);
        assert_eq!(refused(tray("C3", -1)), (ErrorKind::CheckViolation, check));
        let note = [None, table, Some("note")];
        let missing = TrayToInsert { note: None, ..tray("C4", 1) };
        assert_eq!(refused(missing), (ErrorKind::NotNullViolation, told(note, note, note)));
        // The message says it too.
        let said = db
            .write(&Tray::insert(tray("C1", 1)))
            .unwrap_err()
            .to_string();
        let same = engine.pick(
            "has the same `label`",
            "(constraint `tray_label`)",
            "(constraint `tray_label`)",
        );
        assert!(said.starts_with("another row of `write_tray` ") && said.contains(same), "{said}");
        // A row that others refer to stays.
        db.write(&Shelf::insert(ShelfToInsert { id: 5, load_g: 1 }))
            .unwrap();
        db.write(&Tray::insert(TrayToInsert { shelf_id: Some(5), ..tray("C5", 1) }))
            .unwrap();
        let err = db.write(&Shelf::row(5).delete()).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::StillReferenced, "on {}", engine.name);
    }
}

#[test]
fn a_write_that_cannot_be_meant_is_refused() {
    let refused = |sql: Result<nepheline::Sql, Error>| sql.unwrap_err().to_string();
    let nobody: Option<i64> = None;
    let unfit = [
        refused(Place::rows().delete().sql(Dialect::Postgres)),
        refused(
            Place::rows()
                .filter(|p| nobody.map(|id| p.shelf_id.eq(id)))
                .update(|p| p.grams.set(0))
                .sql(Dialect::Sqlite),
        ),
        refused(
            Place::row((1, 1))
                .update(|_| None::<nepheline::Assignment>)
                .sql(Dialect::Sqlite),
        ),
        refused(
            Place::row((1, 1))
                .update(|p| (p.grams.set(1), p.grams.set(2)))
                .sql(Dialect::Sqlite),
        ),
        refused(
            Tray::row(1)
                .update(|t| t.agency_id.set(AgencyId(4)))
                .sql(Dialect::Sqlite),
        ),
        refused(
            Tray::row(1)
                .update(|t| t.version.set(9))
                .sql(Dialect::Sqlite),
        ),
        refused(
            Place::row((1, 1))
                .update(|p| p.grams.set(1))
                .expecting(1)
                .sql(Dialect::Sqlite),
        ),
        refused(Place::rows().limit(3).delete().sql(Dialect::Sqlite)),
        refused(Tray::insert(tray("X", 1)).sql(Dialect::Sqlite)),
        refused(Tray::row(1).delete().sql(Dialect::Sqlite)),
        refused(
            Badge::insert(BadgeToInsert { code: Some(7) })
                .or_keep(|b| b.id)
                .sql(Dialect::Sqlite),
        ),
        refused(
            Place::rows()
                .distinct()
                .delete()
                .every_row()
                .sql(Dialect::Sqlite),
        ),
    ];
    insta::assert_snapshot!(unfit.join("\n"));
}

#[test]
fn writes_are_the_same_on_every_dialect() {
    let carried = Carried::new()
        .with(AgencyId(3))
        .with(Clock::stopped_at(at(8)));
    let mut shown = String::new();
    for dialect in Dialect::ALL {
        let mut show = |sql: Result<nepheline::Sql, Error>| {
            let sql = sql.map_or_else(|err| err.to_string(), |sql| sql.to_string());
            shown.push_str(&format!("{sql}\n\n"));
        };
        show(Tray::insert_all([tray("a", 1), tray("b", 2)]).sql_carrying(dialect, &carried));
        show(Ticket::insert(TicketToInsert {}).sql(dialect));
        let place = || Place::insert(PlaceToInsert { shelf_id: 1, slot: 2, grams: 3 });
        let key = |p: PlaceColumns| (p.shelf_id, p.slot);
        show(
            place()
                .or_update(key, |p, new| p.grams.set(p.grams + new.grams))
                .sql(dialect),
        );
        show(place().or_keep(key).sql(dialect));
        let known =
            Tray::insert(tray("a", 1)).or_update(|t| t.label, |t, new| t.grams.set(new.grams));
        show(known.sql_carrying(dialect, &carried));
        let heavier = Tray::rows().filter(|t| t.shelf().map(|s| s.load_g).gt(500));
        show(
            heavier
                .clone()
                .update(|t| t.grams.set(t.grams + 1))
                .sql_carrying(dialect, &carried),
        );
        show(
            Tray::row(7)
                .update(|t| t.grams.set(1))
                .expecting(4)
                .sql_carrying(dialect, &carried),
        );
        show(Tray::row(7).delete().sql_carrying(dialect, &carried));
        show(
            heavier
                .limit(5)
                .delete_for_good()
                .sql_carrying(dialect, &carried),
        );
    }
    insta::assert_snapshot!(shown);
}
