//! Writes that take values from other tables, from many items, from expressions, and parents with their children.

use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;
use nepheline::{StatementLog, Writes};

use crate::support::engines;
use crate::tables::{
    AgencyId, Place, PlaceToInsert, Shelf, ShelfToInsert, Tray, TrayToInsert, alone, own_agency,
    prepared, tray,
};

fn shelf(id: i64, load_g: i64) -> ShelfToInsert {
    ShelfToInsert { id, load_g }
}

fn on(shelf_id: i64, label: &str, grams: i64) -> TrayToInsert {
    TrayToInsert { shelf_id: Some(shelf_id), ..tray(label, grams) }
}

fn trays(db: &impl RunsQueries) -> Vec<(String, i64)> {
    db.read(
        &Tray::rows()
            .order_by(|t| t.label.asc())
            .select(|t| (t.label, t.grams)),
    )
    .unwrap()
}

fn pairs(rows: &[(&str, i64)]) -> Vec<(String, i64)> {
    rows.iter()
        .map(|(label, grams)| ((*label).to_owned(), *grams))
        .collect()
}

#[test]
fn an_update_takes_values_from_joined_tables_under_their_policies() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let name = engine.name;
        db.write(&Shelf::insert_all(vec![shelf(1, 100), shelf(2, 250)]))
            .unwrap();
        db.write(&Tray::insert_all(vec![on(1, "A", 1), on(2, "B", 2), tray("C", 3)]))
            .unwrap();
        db.carrying(AgencyId(4))
            .write(&Tray::insert(on(1, "foreign", 9)))
            .unwrap();
        // The values of a parent; trays without one, and those of other agencies, stay.
        let loaded = Tray::rows()
            .join(|t| t.shelf())
            .filter(|(_, s)| s.map(|s| s.load_g).ge(100))
            .update(|(t, s)| t.grams.set(t.grams + s.map(|s| s.load_g).coalesce(0)));
        assert_eq!(db.write(&loaded).unwrap(), 2, "on {name}");
        assert_eq!(trays(&db), pairs(&[("A", 101), ("B", 252), ("C", 3)]), "on {name}");
        assert_eq!(trays(&db.carrying(AgencyId(4))), pairs(&[("foreign", 9)]), "on {name}");
        // Totals of children, into the parent; the policies of the children hold.
        let total = Tray::rows()
            .filter(|t| t.shelf_id.is_not_null())
            .select(|t| {
                shape!(Load {
                    shelf_id: per(t.shelf_id.coalesce(0)),
                    grams: sum(t.grams).coalesce(0)
                })
            });
        let totals = Shelf::rows()
            .join(|s| from(total.clone()).filter(|l| l.shelf_id.eq(s.id)))
            .update(|(s, l)| s.load_g.set(l.grams));
        assert_eq!(db.write(&totals).unwrap(), 2, "on {name}");
        let loads = db
            .read(&Shelf::rows().order_by(|s| s.id.asc()).select(|s| s.load_g))
            .unwrap();
        assert_eq!(loads, [101, 252], "on {name}");
        // Rows come back as they are stored, also where the engine cannot return them.
        let halved = Tray::rows()
            .join(|t| Shelf::rows().filter(|s| t.shelf_id.eq(s.id)))
            .filter(|(t, _)| t.label.eq("B"))
            .update(|(t, s)| (t.grams.set(s.load_g - 126), t.note.set("halved")));
        let back = db.write_returning_one(&halved).unwrap();
        assert_eq!(
            (back.grams, back.note.as_deref(), back.version),
            (126, Some("halved"), 3),
            "on {name}"
        );
        // Deleting takes a join too.
        let heavy = Tray::rows()
            .join(|t| Shelf::rows().filter(|s| t.shelf_id.eq(s.id)))
            .filter(|(_, s)| s.load_g.gt(200));
        assert_eq!(db.write(&heavy.delete_for_good()).unwrap(), 1, "on {name}");
        assert_eq!(trays(&db), pairs(&[("A", 101), ("C", 3)]), "on {name}");
        let refused = Tray::rows()
            .join(|t| t.shelf())
            .update(|(t, _)| t.version.set(3));
        assert_eq!(db.write(&refused).unwrap_err().kind(), ErrorKind::InvalidQuery, "on {name}");
    }
    let update = Tray::rows()
        .join(|t| Shelf::rows().filter(|s| t.shelf_id.eq(s.id)))
        .update(|(t, s)| t.grams.set(s.load_g))
        .waive_check(own_agency);
    let carried = Carried::new().with(AgencyId(3));
    let texts =
        [Dialect::Sqlite, Dialect::Postgres, Dialect::MariaDb, Dialect::MySql].map(|dialect| {
            let sql = update.sql_carrying(dialect, &carried).unwrap();
            format!("-- {dialect}\n{}", sql.by_clause())
        });
    insta::assert_snapshot!(texts.join("\n"));
}

#[derive(Debug, RowShape)]
struct Load {
    shelf_id: i64,
    grams: i64,
}

#[test]
fn many_rows_get_values_of_their_own_in_few_statements() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let name = engine.name;
        let places = (0..700).map(|n| PlaceToInsert { shelf_id: n / 10, slot: n % 10, grams: n });
        db.write(&Place::insert_all(places)).unwrap();
        let items: Vec<(i64, i64, Option<i64>)> = (0..600)
            .map(|n| (n / 10, n % 10, (n % 3 > 0).then_some(n * 7)))
            .collect();
        let log = StatementLog::new();
        let updates = Place::rows().filter(|p| p.grams.ge(5)).update_each(
            &items,
            |p, (shelf, slot, grams)| {
                (p.shelf_id.eq(*shelf) & p.slot.eq(*slot), grams.map(|grams| p.grams.set(grams)))
            },
        );
        assert_eq!(db.logging_to(&log).write_each(&updates).unwrap(), 595, "on {name}");
        let written = log
            .all()
            .iter()
            .filter(|s| s.sql().starts_with("UPDATE"))
            .count();
        assert_eq!(written, 3, "on {name}");
        let stored = db
            .read(&Place::rows().order_by(|p| (p.shelf_id.asc(), p.slot.asc())))
            .unwrap();
        for (n, place) in (0..700).zip(&stored) {
            let expected = if (5..600).contains(&n) && n % 3 > 0 { n * 7 } else { n };
            assert_eq!((place.shelf_id * 10 + place.slot, place.grams), (n, expected), "on {name}");
        }
        // All or none: the second update violates a constraint.
        db.write(&Tray::insert_all(vec![tray("A", 1), tray("B", 2)]))
            .unwrap();
        let set = |label: &'static str, grams: i64| {
            Tray::rows()
                .filter(move |t| t.label.eq(label))
                .update(move |t| t.grams.set(grams))
        };
        let err = db.write_each(&[set("A", 5), set("B", -1)]).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::CheckViolation, "on {name}: {err}");
        assert_eq!(trays(&db), pairs(&[("A", 1), ("B", 2)]), "on {name}");
        // Only rows under the policies are found, and each keeps its version.
        let theirs = db.carrying(AgencyId(4));
        let each = Tray::rows().update_each([("A", 10), ("B", 20)], |t, (label, grams)| {
            (t.label.eq(label), t.grams.set(t.grams + grams))
        });
        assert_eq!(theirs.write_each(&each).unwrap(), 0, "on {name}");
        assert_eq!(db.write_each(&each).unwrap(), 2, "on {name}");
        assert_eq!(trays(&db), pairs(&[("A", 11), ("B", 22)]), "on {name}");
        let versions = db.read(&Tray::rows().select(|t| t.version)).unwrap();
        assert_eq!(versions, [2, 2], "on {name}");
        assert_eq!(db.write_each::<nepheline::Update<Tray>>(&[]).unwrap(), 0, "on {name}");
    }
}

#[test]
fn new_rows_hold_expressions_and_defaults() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let name = engine.name;
        db.write(&nepheline::statement!("DROP TABLE IF EXISTS write_box"))
            .unwrap();
        db.write(&nepheline::statement!(
            "CREATE TABLE write_box (id BIGINT PRIMARY KEY, grams BIGINT NOT NULL DEFAULT 7, label VARCHAR(20) NOT NULL)"
        ))
        .unwrap();
        db.write(&Shelf::insert_all(vec![shelf(1, 100), shelf(2, 250)]))
            .unwrap();
        let heaviest = || Shelf::rows().select(|s| max(s.load_g)).value();
        let rows = [1, 2].map(|id| CrateToInsert { id, grams: 0, label: format!("box {id}") });
        let insert = Crate::insert_all(rows).computing(|c| {
            (c.grams.set_default(), c.label.set(verbatim!("upper({})", "x").typed::<String>()))
        });
        assert_eq!(db.write(&insert).unwrap(), 2, "on {name}");
        let row = CrateToInsert { id: 3, grams: 0, label: "c".into() };
        let stored = Crate::insert(row).computing(|c| c.grams.set(heaviest().coalesce(0) + 1));
        let stored = db.write_returning_one(&stored).unwrap();
        assert_eq!((stored.grams, stored.label.as_str()), (251, "c"), "on {name}");
        let all = db
            .read(
                &Crate::rows()
                    .order_by(|c| c.id.asc())
                    .select(|c| (c.grams, c.label)),
            )
            .unwrap();
        assert_eq!(
            all,
            [(7, "X".to_owned()), (7, "X".to_owned()), (251, "c".to_owned())],
            "on {name}"
        );
        let own = Crate::insert(CrateToInsert { id: 4, grams: 0, label: "d".into() });
        let own = own.computing(|c| c.grams.set(c.id + 1));
        assert_eq!(db.write(&own).unwrap_err().kind(), ErrorKind::ColumnNotInQuery, "on {name}");
        // A computed reference is checked after the insert, under the policies of this handle.
        let carried = Tray::insert(tray("T", 1)).computing(|t| t.agency_id.set(AgencyId(4)));
        assert_eq!(db.write(&carried).unwrap_err().kind(), ErrorKind::InvalidQuery, "on {name}");
        db.write(&nepheline::statement!("DROP TABLE write_box"))
            .unwrap();
    }
}

#[derive(Debug, Clone, Table)]
#[nepheline(table = "write_box")]
struct Crate {
    #[nepheline(key)]
    id: i64,
    grams: i64,
    #[nepheline(by_code_point)]
    label: String,
}

#[test]
fn parents_are_inserted_with_their_children() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let name = engine.name;
        let log = StatementLog::new();
        let families = vec![
            (shelf(5, 10), vec![("A", 1), ("B", 2)]),
            (shelf(6, 20), vec![]),
            (shelf(7, 30), vec![("C", 3)]),
        ];
        let stored = db
            .logging_to(&log)
            .insert_with_children(families, |shelf: &Shelf, (label, grams)| {
                on(shelf.id, label, grams + shelf.load_g)
            })
            .unwrap();
        let told: Vec<(i64, Vec<_>)> = stored
            .iter()
            .map(|(shelf, trays)| {
                (
                    shelf.id,
                    trays
                        .iter()
                        .map(|t| (t.label.as_str(), t.grams, t.shelf_id))
                        .collect(),
                )
            })
            .collect();
        let expected = [
            (5, vec![("A", 11, Some(5)), ("B", 12, Some(5))]),
            (6, vec![]),
            (7, vec![("C", 33, Some(7))]),
        ];
        assert_eq!(told, expected, "on {name}");
        let inserts = log
            .all()
            .iter()
            .filter(|s| s.sql().starts_with("INSERT"))
            .count();
        assert_eq!(inserts, 2, "on {name}");
        // A child that is refused undoes its parent.
        let err = db
            .insert_with_children(vec![(shelf(8, 1), vec!["A"])], |shelf: &Shelf, label| {
                on(shelf.id, label, 1)
            })
            .unwrap_err();
        assert_eq!(err.kind(), ErrorKind::UniqueViolation, "on {name}: {err}");
        assert_eq!(db.count(&Shelf::row(8)).unwrap(), 0, "on {name}");
    }
}

/// Rows in hand have companions as rows that are read.
#[test]
fn rows_in_hand_get_their_companions() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let name = engine.name;
        db.write(&Shelf::insert_all(vec![shelf(1, 1), shelf(2, 2), shelf(3, 3)]))
            .unwrap();
        db.write(&Tray::insert_all(vec![
            on(1, "A", 1),
            on(1, "B", 2),
            on(2, "C", 3),
            tray("D", 4),
        ]))
        .unwrap();
        db.carrying(AgencyId(4))
            .write(&Tray::insert(on(2, "theirs", 9)))
            .unwrap();
        let in_hand = vec![
            Shelf { id: 3, load_g: 0 },
            Shelf { id: 1, load_g: 0 },
            Shelf { id: 2, load_g: 0 },
        ];
        let loaded = db
            .load_alongside(in_hand.clone(), |s| {
                s.trays().order_by(|t| t.label.desc()).select(|t| t.label)
            })
            .unwrap();
        let labels: Vec<(i64, String)> = loaded
            .into_iter()
            .map(|(shelf, labels)| (shelf.id, labels.concat()))
            .collect();
        assert_eq!(
            labels,
            [(3, String::new()), (1, "BA".to_owned()), (2, "C".to_owned())],
            "on {name}"
        );
        let trays = db.read(&Tray::rows().order_by(|t| t.label.asc())).unwrap();
        let parents = db.load_alongside(trays, |t| t.shelf()).unwrap();
        let parents: Vec<Option<i64>> = parents
            .iter()
            .map(|(_, shelf)| shelf.as_ref().map(|s| s.id))
            .collect();
        assert_eq!(parents, [Some(1), Some(1), Some(2), None], "on {name}");
        // The rows of a statement have companions too.
        let statement =
            nepheline::statement!("SELECT * FROM write_shelf WHERE id < 3 ORDER BY id DESC");
        let read = statement
            .rows_as::<Shelf>()
            .alongside(|s| s.trays().order_by(|t| t.label.asc()))
            .map_rows(|(shelf, trays)| (shelf.id, trays.len()));
        assert_eq!(db.read(&read).unwrap(), [(2, 1), (1, 2)], "on {name}");
        assert_eq!(db.read_first(&read).unwrap(), Some((2, 1)), "on {name}");
        assert_eq!(db.count(&read).unwrap(), 2, "on {name}");
        let unrelated = db.load_alongside(in_hand, |_| Tray::rows()).unwrap_err();
        assert_eq!(unrelated.kind(), ErrorKind::InvalidQuery, "on {name}: {unrelated}");
    }
}
