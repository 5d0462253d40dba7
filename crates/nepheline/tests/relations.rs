//! Relations: the SQL of each question to another table, in every dialect, and its answer on every
//! engine against the same question to the rows in memory.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;
use nepheline::{RowShape, Tables};
use nepheline_coreshed::{Agency, Borehole, BoreholeColumns, Hazard, Site, Specimen};
use std::fmt::{Debug, Write as _};
use support::shed::{Shed, sheds};

/// Asks every engine, expects what memory says, and gives the SQL in every dialect.
fn ask<T: Tables, R>(query: &Query<T, R>, expected: &[R]) -> String
where
    R: RowShape + Debug + PartialEq + Send + 'static,
{
    for (engine, db) in sheds() {
        let sql = query.sql(engine.dialect()).unwrap();
        assert_eq!(db.read(query).unwrap(), expected, "on {}: {sql}", engine.name);
        assert_eq!(db.count(query).unwrap(), expected.len() as u64, "on {}", engine.name);
        assert_eq!(db.exists(query).unwrap(), !expected.is_empty(), "on {}", engine.name);
    }
    assert!(!expected.is_empty(), "a question whose answer is nothing shows nothing");
    let each = Dialect::ALL.map(|dialect| {
        let sql = query.sql(dialect).unwrap();
        format!("-- {dialect}\n{}\n", sql.by_clause())
    });
    each.concat()
}

#[test]
fn to_one_relations_are_followed() {
    let shed = Shed::read();
    let mut seen = String::new();
    let mut see = |what: &str, sql: String| write!(seen, "# {what}\n{sql}\n").unwrap();

    let in_region = Specimen::rows()
        .filter(|s| s.borehole().site().region.eq("Upper Tarn") & s.top_m.lt(100))
        .order_by(|s| (s.borehole().name.desc(), s.id.asc()))
        .select(|s| (s.label, s.borehole().name, s.borehole().site().agency().name));
    let mut expected: Vec<_> = shed
        .specimens
        .iter()
        .filter(|s| shed.site(shed.borehole(s)).region == "Upper Tarn" && s.top_m < 100.0)
        .collect();
    expected.sort_by(|a, b| {
        shed.borehole(b)
            .name
            .cmp(&shed.borehole(a).name)
            .then(a.id.cmp(&b.id))
    });
    let expected: Vec<_> = expected
        .into_iter()
        .map(|s| {
            let borehole = shed.borehole(s);
            let agency = shed.site(borehole).agency_id;
            let agency = shed.agencies.iter().find(|a| a.id == agency).unwrap();
            (s.label.clone(), borehole.name.clone(), agency.name.clone())
        })
        .collect();
    see("three parents, each joined once", ask(&in_region, &expected));

    let names = Specimen::rows()
        .filter(|s| s.id.le(60))
        .order_by(|s| (s.analyst().map(|a| a.name).asc(), s.id.asc()))
        .select(|s| (s.id, s.analyst().map(|a| a.name)));
    let mut expected: Vec<_> = shed
        .specimens
        .iter()
        .filter(|s| s.id <= 60)
        .map(|s| (s.id, shed.analyst(s).map(|a| a.name.clone())))
        .collect();
    expected
        .sort_by(|(a, one), (b, other)| (one.is_none(), one, a).cmp(&(other.is_none(), other, b)));
    see("a parent that there may not be", ask(&names, &expected));

    let split = Specimen::rows()
        .filter(|s| s.parent().is_some_and(|p| p.top_m.lt(300)))
        .filter(|s| s.parent().and_then(|p| p.analyst()).is_none())
        .order_by(|s| s.id.asc())
        .select(|s| {
            (s.label, s.parent().map(|p| p.label), s.parent().map(|p| p.borehole()).map(|b| b.name))
        });
    let expected: Vec<_> = shed
        .specimens
        .iter()
        .filter_map(|s| {
            let parent = shed
                .parent(s)
                .filter(|p| p.top_m < 300.0 && shed.analyst(p).is_none())?;
            Some((
                s.label.clone(),
                Some(parent.label.clone()),
                Some(shed.borehole(parent).name.clone()),
            ))
        })
        .collect();
    see("the same table again, and beyond", ask(&split, &expected));

    let described = Specimen::rows()
        .filter(|s| s.top_m.lt(100) | s.analyst().required().name.ge("M"))
        .order_by(|s| s.id.asc())
        .select(|s| (s.id, s.analyst().map(|a| a.name)));
    let expected: Vec<_> = shed
        .specimens
        .iter()
        .filter_map(|s| Some((s, shed.analyst(s)?)))
        .filter(|(s, a)| s.top_m < 100.0 || &*a.name >= "M")
        .map(|(s, a)| (s.id, Some(a.name.clone())))
        .collect();
    see("a parent that there must be, also below OR", ask(&described, &expected));

    // Only the selection names it, which counts and tests of presence do not read.
    let of_parents = Specimen::rows()
        .order_by(|s| s.id.asc())
        .select(|s| (s.label, s.parent().required().analyst().map(|a| a.name)));
    let expected: Vec<_> = shed
        .specimens
        .iter()
        .filter_map(|s| {
            let parent = shed.parent(s)?;
            Some((s.label.clone(), shed.analyst(parent).map(|a| a.name.clone())))
        })
        .collect();
    see(
        "a parent that there must be, and one behind it that may be missing",
        ask(&of_parents, &expected),
    );

    let pairs = Specimen::rows()
        .left_join(|s| Specimen::rows().filter(|part| part.parent_id.eq(s.id)))
        .filter(|(s, part)| part.required().top_m.gt(s.top_m))
        .order_by(|(s, part)| (s.id.asc(), part.required().id.asc()))
        .select(|(s, part)| (s.id, part.map(|part| part.id)));
    let mut expected: Vec<_> = shed
        .specimens
        .iter()
        .filter_map(|part| Some((shed.parent(part)?, part)))
        .filter(|(s, part)| part.top_m > s.top_m)
        .map(|(s, part)| (s.id, Some(part.id)))
        .collect();
    expected.sort();
    see("a joined row that there must be", ask(&pairs, &expected));

    let high = Borehole::rows()
        .filter(|b| b.collar().is_some_and(|c| c.elevation_m.gt(400)))
        .order_by(|b| b.id.asc());
    let expected: Vec<_> = shed
        .boreholes
        .iter()
        .filter(|b| {
            shed.collars
                .iter()
                .any(|c| c.borehole_id == b.id && c.elevation_m > 400.0)
        })
        .cloned()
        .collect();
    see("one to one, from the other side", ask(&high, &expected));
    insta::assert_snapshot!(seen);
}

#[test]
fn to_many_relations_are_asked() {
    let shed = Shed::read();
    let mut seen = String::new();
    let mut see = |what: &str, sql: String| write!(seen, "# {what}\n{sql}\n").unwrap();
    let specimens = |holds: &dyn Fn(&Specimen) -> bool| -> Vec<i64> {
        shed.specimens
            .iter()
            .filter(|s| holds(s))
            .map(|s| s.id)
            .collect()
    };
    macro_rules! specimens {
        ($what:literal: |$s:ident| $asked:expr => |$row:ident| $expected:expr) => {
            let query = Specimen::rows()
                .filter(|$s| $asked)
                .order_by(|s| s.id.asc())
                .select(|s| s.id);
            see($what, ask(&query, &specimens(&|$row| $expected)));
        };
    }
    specimens!("exists": |s| s.assays().filter(|a| a.element.eq("Nd") & a.ppm.ge(400)).exists()
        => |row| shed.assays(row).any(|a| a.element == "Nd" && a.ppm >= 400.0));
    specimens!("any": |s| s.assays().any(|a| a.ppm.gt(s.top_m * 3))
        => |row| shed.assays(row).any(|a| a.ppm > row.top_m * 3.0));
    specimens!("not exists": |s| s.assays().not_exists() => |row| shed.assays(row).next().is_none());
    specimens!("not exists, by !": |s| !s.assays().exists() => |row| shed.assays(row).next().is_none());
    specimens!("all satisfy; a NULL does not": |s| s.assays().all(|a| a.reported_on.ge(a.due_on))
        => |row| shed.assays(row).all(|a| a.reported_on.is_some_and(|day| day >= a.due_on)));
    specimens!("at least one": |s| s.assays().count().ge(1) => |row| shed.assays(row).count() >= 1);
    specimens!("none": |s| s.assays().count().eq(0) => |row| shed.assays(row).count() == 0);
    specimens!("at least seven": |s| s.assays().count().ge(7) => |row| shed.assays(row).count() >= 7);
    specimens!("fewer than three": |s| s.assays().count().lt(3) => |row| shed.assays(row).count() < 3);
    specimens!("not more than eight, negated": |s| !s.assays().count().le(8) => |row| shed.assays(row).count() > 8);
    specimens!("any number": |s| s.assays().count().ge(0) & s.id.lt(4) => |row| row.id < 4);
    specimens!("exactly four": |s| s.assays().count().eq(4) => |row| shed.assays(row).count() == 4);
    specimens!("more than a column": |s| s.assays().count().cast::<f64>().gt(s.base_m)
        => |row| shed.assays(row).count() as f64 > row.base_m);
    specimens!("a value of children, computed once": |s| s.assays().avg(|a| a.ppm).cast::<i64>().ge(400)
    => |row| {
        let of_row: Vec<_> = shed.assays(row).map(|a| a.ppm).collect();
        !of_row.is_empty() && (of_row.iter().sum::<f64>() / of_row.len() as f64) as i64 >= 400
    });
    specimens!("many to many": |s| s.hazards().any(|h| h.name.eq("asbestos")) | s.hazards().count().ge(2)
        => |row| shed.hazards(row).any(|h| h.name == "asbestos") || shed.hazards(row).count() >= 2);
    specimens!("down and up again": |s| s.assays().any(|a| a.lab().country.ne("Norland") & a.specimen().rock.eq(s.rock))
    => |row| shed.assays(row).any(|a| {
        shed.labs.iter().any(|lab| lab.id == a.lab_id && lab.country != "Norland")
    }));
    specimens!("of the same table": |s| s.parts().any(|p| p.rock.ne(s.rock)) | s.parts().count().ge(2)
    => |row| {
        let parts: Vec<_> = shed.specimens.iter().filter(|p| p.parent_id == Some(row.id)).collect();
        parts.iter().any(|p| p.rock != row.rock) || parts.len() >= 2
    });

    let deep = Site::rows()
        .filter(|s| {
            s.boreholes()
                .any(|b| b.specimens().any(|p| p.assays().any(|a| a.ppm.gt(900))))
        })
        .order_by(|s| s.id.asc())
        .select(|s| {
            (s.name, s.boreholes().flat_map(|b| b.specimens()).count(), s.boreholes().count())
        });
    let expected: Vec<_> = shed
        .sites
        .iter()
        .filter_map(|site| {
            let boreholes: Vec<_> = shed
                .boreholes
                .iter()
                .filter(|b| b.site_id == site.id)
                .collect();
            let specimens: Vec<_> = shed
                .specimens
                .iter()
                .filter(|s| boreholes.iter().any(|b| b.id == s.borehole_id))
                .collect();
            let rich = specimens
                .iter()
                .any(|s| shed.assays(s).any(|a| a.ppm > 900.0));
            rich.then(|| (site.name.clone(), specimens.len() as i64, boreholes.len() as i64))
        })
        .collect();
    see("three levels, and two in one", ask(&deep, &expected));

    let totals = Specimen::rows()
        .filter(|s| s.id.within(150..200))
        .order_by(|s| s.id.asc())
        .select(|s| {
            let first = s.assays().order_by(|a| (a.due_on.asc(), a.id.asc()));
            (
                s.id,
                s.assays().max(|a| a.ppm),
                s.assays().min(|a| a.element),
                s.assays().sum(|a| a.lab_id),
                s.assays().filter(|a| a.element.eq("Ce")).avg(|a| a.ppm),
                first.clone().first(|a| a.element),
                first.last(|a| a.due_on),
            )
        });
    let expected: Vec<_> = shed
        .specimens
        .iter()
        .filter(|s| (150..200).contains(&s.id))
        .map(|s| {
            let assays: Vec<_> = shed.assays(s).collect();
            let ce: Vec<_> = assays
                .iter()
                .filter(|a| a.element == "Ce")
                .map(|a| a.ppm)
                .collect();
            let greatest = assays.iter().map(|a| a.ppm).reduce(f64::max);
            (
                s.id,
                greatest,
                assays.iter().map(|a| a.element.clone()).min(),
                assays.iter().map(|a| a.lab_id).reduce(|a, b| a + b),
                (!ce.is_empty()).then(|| ce.iter().sum::<f64>() / ce.len() as f64),
                assays
                    .iter()
                    .min_by_key(|a| (a.due_on, a.id))
                    .map(|a| a.element.clone()),
                assays
                    .iter()
                    .max_by_key(|a| (a.due_on, a.id))
                    .map(|a| a.due_on),
            )
        })
        .collect();
    see("totals", ask(&totals, &expected));
    insta::assert_snapshot!(seen);
}

/// PostgreSQL writes the operand of this cast three times.
#[test]
fn a_value_of_children_is_computed_once() {
    for dialect in Dialect::ALL {
        let whole = Specimen::rows().filter(|s| s.assays().avg(|a| a.ppm).cast::<i64>().ge(400));
        let sql = whole.sql(dialect).unwrap();
        assert_eq!(sql.text().matches("avg(").count(), 1, "{dialect}: {sql}");
    }
}

#[test]
fn tables_are_joined_and_read_as_tuples() {
    let shed = Shed::read();
    let mut seen = String::new();
    let mut see = |what: &str, sql: String| write!(seen, "# {what}\n{sql}\n").unwrap();

    let pairs = Specimen::rows()
        .join(|s| s.borehole())
        .filter(|(s, b)| s.base_m.gt(b.depth_m * 0.9) & b.site().region.ne("Varnholt"))
        .order_by(|(s, b)| (b.name.asc(), s.id.asc()));
    let mut expected: Vec<_> = shed
        .specimens
        .iter()
        .map(|s| (s.clone(), shed.borehole(s).clone()))
        .filter(|(s, b)| s.base_m > b.depth_m * 0.9 && shed.site(b).region != "Varnholt")
        .collect();
    expected.sort_by(|(s, b), (t, c)| b.name.cmp(&c.name).then(s.id.cmp(&t.id)));
    see("with a parent", ask(&pairs, &expected));

    let three = Borehole::rows()
        .join(|b| b.specimens().filter(|s| s.top_m.lt(60)))
        .join(|(_, s)| s.analyst())
        .order_by(|(_, s, _)| s.id.asc());
    let expected: Vec<_> = shed
        .specimens
        .iter()
        .filter(|s| s.top_m < 60.0)
        .map(|s| (shed.borehole(s).clone(), s.clone(), shed.analyst(s).cloned()))
        .collect();
    see("with children, and a parent of theirs that there may not be", ask(&three, &expected));

    let with_parts = Specimen::rows()
        .filter(|s| s.rock.eq(nepheline_coreshed::Rock::Carbonatite))
        .left_join(|s| s.parts())
        .order_by(|(s, part)| (s.id.asc(), part.map(|p| p.id).asc()));
    let mut expected = Vec::new();
    for s in shed
        .specimens
        .iter()
        .filter(|s| s.rock == nepheline_coreshed::Rock::Carbonatite)
    {
        let parts: Vec<_> = shed
            .specimens
            .iter()
            .filter(|p| p.parent_id == Some(s.id))
            .collect();
        match parts.is_empty() {
            true => expected.push((s.clone(), None)),
            false => expected.extend(parts.into_iter().map(|p| (s.clone(), Some(p.clone())))),
        }
    }
    see("with children of the same table, or none", ask(&with_parts, &expected));

    let same_hole = Specimen::rows()
        .filter(|s| s.id.lt(30))
        .join(|s| {
            Specimen::rows()
                .filter(|t| t.borehole_id.eq(s.borehole_id) & t.id.gt(s.id) & t.id.lt(60))
        })
        .order_by(|(s, t)| (s.id.asc(), t.id.asc()))
        .select(|(s, t)| (s.label, t.label, t.top_m - s.top_m));
    let mut expected = Vec::new();
    for s in shed.specimens.iter().filter(|s| s.id < 30) {
        for t in shed
            .specimens
            .iter()
            .filter(|t| t.id > s.id && t.id < 60 && t.borehole_id == s.borehole_id)
        {
            expected.push((s.label.clone(), t.label.clone(), t.top_m - s.top_m));
        }
    }
    see("on any condition", ask(&same_hole, &expected));

    let everything = Agency::rows()
        .join(|_| Hazard::rows())
        .order_by(|(a, h)| (a.id.asc(), h.id.asc()));
    let mut expected = Vec::new();
    for agency in &shed.agencies {
        expected.extend(
            shed.hazards
                .iter()
                .map(|hazard| (agency.clone(), hazard.clone())),
        );
    }
    see("with everything", ask(&everything, &expected));

    let hazards = Specimen::rows()
        .join(|s| s.hazards().filter(|h| h.name.ne("radon")))
        .filter(|(s, _)| s.id.le(200))
        .order_by(|(s, h)| (s.id.asc(), h.id.asc()))
        .select(|(s, h)| (s.id, h.name));
    let mut expected = Vec::new();
    for s in shed.specimens.iter().filter(|s| s.id <= 200) {
        let mut hazards: Vec<_> = shed.hazards(s).filter(|h| h.name != "radon").collect();
        hazards.sort_by_key(|h| h.id);
        expected.extend(hazards.into_iter().map(|h| (s.id, h.name.clone())));
    }
    see("many to many", ask(&hazards, &expected));
    insta::assert_snapshot!(seen);
}

#[derive(Debug, Table)]
#[nepheline(children(cores: Core by (shelf, slot), named: Core by tray_name = name))]
struct Tray {
    #[nepheline(key)]
    shelf: i64,
    #[nepheline(key)]
    slot: i32,
    #[nepheline(unique)]
    name: String,
}

#[derive(Debug, Table)]
#[nepheline(references(tray: Tray by (shelf, slot)))]
struct Core {
    #[nepheline(key)]
    id: i64,
    shelf: i64,
    slot: i32,
    #[nepheline(references = Tray by name, called = tray_called)]
    tray_name: String,
}

#[test]
fn references_may_have_several_columns_or_lead_to_a_unique_one() {
    let cores = Core::rows()
        .filter(|c| c.tray().name.eq("b"))
        .select(|c| (c.id, c.tray_called().slot));
    assert_eq!(
        cores.sql(Dialect::Postgres).unwrap().text(),
        r#"SELECT "core"."id", "tray_called"."slot" FROM "core" INNER JOIN "tray" ON "tray"."shelf" = "core"."shelf" AND "tray"."slot" = "core"."slot" INNER JOIN "tray" AS "tray_called" ON "tray_called"."name" = "core"."tray_name" AND "tray_called"."name" COLLATE "C" = "core"."tray_name" WHERE ("tray"."name" = $1 AND "tray"."name" COLLATE "C" = $2)"#,
    );
    let trays = Tray::rows().filter(|t| t.cores().exists() & t.named().not_exists());
    assert!(trays.sql(Dialect::Sqlite).unwrap().text().ends_with(
        r#"WHERE EXISTS (SELECT 1 FROM "core" WHERE "core"."shelf" = "tray"."shelf" AND "core"."slot" = "tray"."slot") AND NOT EXISTS (SELECT 1 FROM "core" WHERE "core"."tray_name" COLLATE BINARY = "tray"."name")"#
    ));
    let tray = Tray { shelf: 1, slot: 2, name: "b".to_owned() };
    assert_eq!(tray.cores().sql(Dialect::Sqlite).unwrap().binds().len(), 2);
    let core = Core { id: 7, shelf: 1, slot: 2, tray_name: "a".to_owned() };
    assert_eq!(core.tray().sql(Dialect::Sqlite).unwrap().binds().len(), 2);
    assert_eq!(
        core.tray_called()
            .sql(Dialect::Sqlite)
            .unwrap()
            .binds()
            .len(),
        1
    );
}

#[test]
fn what_cannot_be_joined_is_refused() {
    let limited = Borehole::rows().join(|b| b.specimens().limit(3));
    let err = limited.sql(Dialect::Sqlite).unwrap_err();
    assert_eq!(err.kind(), ErrorKind::InvalidQuery);
    // An aggregate over all rows would ignore a limit.
    let asked: [fn(BoreholeColumns) -> Condition; 5] = [
        |b| b.specimens().limit(3).count().gt(1),
        |b| b.specimens().offset(1).max(|s| s.top_m).gt(1),
        |b| b.specimens().limit(3).all(|s| s.top_m.gt(1)),
        |b| b.specimens().limit(3).last(|s| s.top_m).gt(1),
        |b| b.specimens().limit(3).flat_map(|s| s.assays()).exists(),
    ];
    for condition in asked {
        let query = Borehole::rows().filter(condition);
        assert_eq!(query.sql(Dialect::Sqlite).unwrap_err().kind(), ErrorKind::InvalidQuery);
    }
    let beyond = Borehole::rows().left_join(|b| {
        b.specimens()
            .filter(|s| s.analyst().is_some_and(|a| a.id.eq(1)))
    });
    assert_eq!(beyond.sql(Dialect::Sqlite).unwrap_err().kind(), ErrorKind::InvalidQuery);
}

#[test]
fn origins_name_the_relations() {
    let query = Specimen::rows()
        .filter(|s| s.borehole().site().region.eq("Upper Tarn"))
        .filter(|s| s.assays().any(|a| a.lab().accredited) | s.parts().exists())
        .order_by(|s| s.parent().map(|p| p.top_m).asc());
    let shown = query
        .sql(Dialect::Postgres)
        .unwrap()
        .with_origins()
        .to_string();
    let relations = shown.lines().filter_map(|line| {
        let (_, relations) = line.split_once(" for ")?;
        Some((line.trim().split(' ').next()?, relations))
    });
    assert_eq!(
        relations.collect::<Vec<_>>(),
        [
            ("INNER", "specimen.borehole"),
            ("INNER", "borehole.site"),
            ("LEFT", "specimen.parent"),
            ("AND", "specimen.assays, assay.lab, specimen.parts"),
        ]
    );
}

#[test]
fn a_row_in_hand_begins_a_query() {
    let shed = Shed::read();
    for (engine, db) in sheds() {
        let specimen = db.read_one(&Specimen::row(46)).unwrap();
        let assays = db
            .read(&specimen.assays().order_by(|a| a.id.asc()))
            .unwrap();
        assert_eq!(assays, shed.assays(&specimen).cloned().collect::<Vec<_>>());
        let borehole = db.read_one(&specimen.borehole()).unwrap();
        assert_eq!(&borehole, shed.borehole(&specimen), "on {}", engine.name);
        let nobody = shed
            .specimens
            .iter()
            .find(|s| s.analyst_id.is_none())
            .unwrap();
        assert_eq!(db.read_at_most_one(&nobody.analyst()).unwrap(), None);
        let dangerous = shed
            .specimens
            .iter()
            .find(|s| shed.hazards(s).count() > 1)
            .unwrap();
        let mut hazards: Vec<_> = shed.hazards(dangerous).cloned().collect();
        hazards.sort_by_key(|h| h.id);
        assert_eq!(
            db.read(&dangerous.hazards().order_by(|h| h.id.asc()))
                .unwrap(),
            hazards
        );
        let back = hazards[0].specimens().filter(|s| s.id.eq(dangerous.id));
        assert_eq!(db.read(&back).unwrap(), std::slice::from_ref(dangerous));
        assert_eq!(db.read_one(&borehole.collar()).unwrap().borehole_id, borehole.id);
    }
}

#[test]
fn a_row_by_its_key_may_have_several_beside_it() {
    for (engine, db) in sheds() {
        let with_assays = Specimen::row(46).join(|s| s.assays());
        let err = db.read_at_most_one(&with_assays).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::MoreThanOne, "on {}", engine.name);
        let with_borehole = db
            .read_one(&Specimen::row(46).join(|s| s.borehole()))
            .unwrap();
        assert_eq!(with_borehole.0.borehole_id, with_borehole.1.id);
    }
}

#[test]
fn a_clone_inside_the_original_keeps_its_columns_apart() {
    let base = Specimen::rows().filter(|s| s.top_m.gt(600));
    let inner = base.clone();
    let deepest_of_hole = base.filter(|s| {
        inner
            .filter(|other| other.borehole_id.eq(s.borehole_id) & other.top_m.gt(s.top_m))
            .not_exists()
    });
    let shed = Shed::read();
    let mut expected: Vec<_> = shed
        .specimens
        .iter()
        .filter(|s| s.top_m > 600.0)
        .filter(|s| {
            !shed
                .specimens
                .iter()
                .any(|o| o.borehole_id == s.borehole_id && o.top_m > s.top_m)
        })
        .cloned()
        .collect();
    expected.sort_by_key(|s| s.id);
    insta::assert_snapshot!(ask(&deepest_of_hole.order_by(|s| s.id.asc()), &expected));
}

#[test]
fn a_path_of_references_has_an_end() {
    let query = Specimen::rows().filter(|s| {
        let mut parent = s.parent();
        for _ in 0..8 {
            parent = parent.and_then(|p| p.parent());
        }
        parent.is_none()
    });
    let err = query.sql(Dialect::Sqlite).unwrap_err();
    assert_eq!(err.kind(), ErrorKind::TooDeep);
    assert!(
        err.to_string()
            .starts_with("a path follows more than 8 references"),
        "{err}"
    );
}
