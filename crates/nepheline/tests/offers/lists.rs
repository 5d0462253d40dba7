//! Sorts, properties, totals and pages that arrive as text, on every engine.

use nepheline::blocking::RunsQueries as _;
use nepheline::prelude::*;
use nepheline::{Offer, Offered, Paging};
use nepheline_coreshed::{Borehole, Specimen};

use crate::offer;
use crate::support::demos;

fn json<T: serde::Serialize>(rows: &T) -> String {
    serde_json::to_string(rows).unwrap()
}

#[test]
fn a_sort_is_the_order_that_rust_writes() {
    let offer = offer();
    let sort = offer.sort_by("-region, +withdrawn,label").unwrap();
    assert_eq!(sort.to_string(), "-region,withdrawn,label");
    let by_text = Specimen::rows().order_by(sort.orders());
    let by_rust = Specimen::rows()
        .order_by(|s| (s.borehole().site().region.desc(), s.withdrawn_at.asc(), s.label.asc()));
    for dialect in [Dialect::Sqlite, Dialect::Postgres, Dialect::MariaDb] {
        assert_eq!(by_text.sql(dialect).unwrap().text(), by_rust.sql(dialect).unwrap().text());
    }
}

#[test]
fn properties_are_rows_of_json_in_the_order_asked_for() {
    let offer = offer();
    let filter = offer.cql2_text("label IN ('100%', 'GB-007')").unwrap();
    let properties = offer
        .properties("label,depth,region,withdrawn,taken,overdue,results,rock")
        .unwrap();
    let query = Specimen::rows()
        .filter(filter.scope())
        .order_by(|s| s.label.asc());
    let query = properties.rows_of(query);
    for (engine, db) in demos() {
        let rows = db.read(&query).unwrap();
        assert_eq!(
            json(&rows),
            r#"[{"label":"100%","depth":304.8,"region":"Upper Tarn","withdrawn":null,"taken":"2017-05-22","overdue":false,"results":5,"rock":"gneiss"},{"label":"GB-007","depth":38.6,"region":"Sablemoor","withdrawn":"2022-01-28T08:24:30.250000Z","taken":"2021-04-27","overdue":false,"results":2,"rock":"schist"}]"#,
            "on {}",
            engine.name
        );
        assert_eq!(rows[0].get("depth"), Some(&304.8.to_bind()));
        assert_eq!(db.count(&query).unwrap(), 2);
    }
    let names: Vec<String> = offer.all_properties().names().map(str::to_owned).collect();
    assert_eq!(names.join(","), "label,rock,depth,taken,withdrawn,region,results,overdue");
}

#[test]
fn properties_come_in_pages_of_either_kind() {
    let offer = offer();
    let sort = offer.sort_by("rock,-depth").unwrap();
    let query = Specimen::rows().order_by(sort.orders());
    let query = offer.properties("label,depth").unwrap().rows_of(query);
    let mut first = None;
    for (engine, db) in demos() {
        let all = db.read(&query.clone().limit(30)).unwrap();
        let page = db.read_page(&query, Paging::page_size(10).page(3)).unwrap();
        assert_eq!(page.rows(), &all[20..30], "on {}", engine.name);
        assert_eq!(page.total_rows(), 600);
        let mut paged = Vec::new();
        let mut cursor = None;
        while paged.len() < 30 {
            let page = db.read_after(&query, cursor.as_ref(), 10).unwrap();
            cursor = page.after().cloned();
            paged.extend(page.into_rows());
        }
        assert_eq!(paged, all, "on {}", engine.name);
        let rows = first.get_or_insert_with(|| all.clone());
        assert_eq!(*rows, all, "on {}", engine.name);
    }
}

#[test]
fn totals_are_those_that_rust_writes() {
    let offer = offer();
    let totals = offer
        .totals(
            "region,rock",
            "count, sum(depth) as metres, avg(depth), max(taken), count(withdrawn) as gone",
        )
        .unwrap()
        .having("count >= 5 AND metres > 900 AND NOT rock = 'basalt'")
        .unwrap()
        .sort_by("-metres,rock")
        .unwrap();
    assert_eq!(
        totals.names().collect::<Vec<_>>().join(","),
        "region,rock,count,metres,avg_depth,max_taken,gone"
    );
    let query = totals.rows_of(Specimen::rows());
    let by_rust = Specimen::rows()
        .select(|s| {
            let region = per(s.borehole().site().region);
            (
                region,
                per(s.rock),
                count(),
                sum(s.top_m),
                avg(s.top_m),
                max(s.taken_on),
                count_of(s.withdrawn_at),
            )
        })
        .having(|s| {
            let basalt = per(s.rock).eq(nepheline_coreshed::Rock::Basalt);
            count().ge(5) & sum(s.top_m).gt(900) & !basalt
        })
        .order_by(|s| (sum(s.top_m).desc(), per(s.rock).asc()));
    for (engine, db) in demos() {
        let rows = db.read(&query).unwrap();
        let expected = db.read(&by_rust).unwrap();
        assert!(rows.len() > 10, "on {}", engine.name);
        assert_eq!(rows.len(), expected.len(), "on {}", engine.name);
        for (row, (region, rock, count, metres, depth, taken, gone)) in rows.iter().zip(expected) {
            let binds = [
                region.to_bind(),
                rock.to_bind(),
                count.to_bind(),
                metres.unwrap().to_bind(),
                depth.unwrap().to_bind(),
                taken.unwrap().to_bind(),
                gone.to_bind(),
            ];
            assert_eq!(
                row.iter()
                    .map(|(_, value)| value.clone())
                    .collect::<Vec<_>>(),
                binds
            );
        }
        // Numbered pages and keyset pages have the same groups.
        let page = db.read_page(&query, Paging::page_size(4).page(2)).unwrap();
        assert_eq!(page.rows(), &rows[4..8], "on {}", engine.name);
        let (mut paged, mut cursor) = (Vec::new(), None);
        loop {
            let page = db.read_after(&query, cursor.as_ref(), 4).unwrap();
            cursor = page.after().cloned();
            paged.extend(page.into_rows());
            if cursor.is_none() {
                break;
            }
        }
        assert_eq!(paged, rows, "on {}", engine.name);
    }
    // Without keys, all rows are one group.
    let all = offer
        .totals("", "count, min(region)")
        .unwrap()
        .rows_of(Specimen::rows());
    for (_, db) in demos() {
        assert_eq!(json(&db.read(&all).unwrap()), r#"[{"count":600,"min_region":"Hollow Coast"}]"#);
    }
}

#[test]
fn children_can_stand_each_for_itself_and_offers_stand_in_offers() {
    let assays = nepheline_coreshed::offers::assays().unwrap();
    let apart = Offer::of::<Specimen>()
        .children(Offered::name("assays").each_apart(), |s| s.assays(), &assays)
        .build()
        .unwrap();
    let specimens = offer();
    let boreholes = Offer::of::<Borehole>()
        .value("metres", |b| b.depth_m)
        .children("specimens", |b| b.specimens(), &specimens)
        .build()
        .unwrap();
    let text = "assays.ppm > 400 AND assays.element = 'Nd'";
    let nested = "specimens.depth > metres / 3 AND specimens.assays.ppm > 400 AND specimens.assays.element = 'Nd'";
    for (engine, db) in demos() {
        let one = db
            .count(&Specimen::rows().filter(specimens.cql2_text(text).unwrap().scope()))
            .unwrap();
        let two = Specimen::rows().filter(apart.cql2_text(text).unwrap().scope());
        let by_rust = Specimen::rows()
            .filter(|s| s.assays().any(|a| a.ppm.gt(400)) & s.assays().any(|a| a.element.eq("Nd")));
        assert_eq!(db.read(&two).unwrap(), db.read(&by_rust).unwrap(), "on {}", engine.name);
        assert!(one < db.count(&two).unwrap());

        let nested = Borehole::rows().filter(boreholes.cql2_text(nested).unwrap().scope());
        let by_rust = Borehole::rows().filter(|b| {
            let deep = b.specimens().filter(|s| s.top_m.gt(b.depth_m / 3));
            deep.any(|s| s.assays().any(|a| a.ppm.gt(400) & a.element.eq("Nd")))
        });
        let found = db.read(&nested).unwrap();
        assert_eq!(found, db.read(&by_rust).unwrap(), "on {}", engine.name);
        assert!(!found.is_empty() && found.len() < 40, "{} on {}", found.len(), engine.name);
    }
}

#[test]
fn an_offer_describes_its_parameters_as_json_schema() {
    insta::assert_snapshot!(serde_json::to_string_pretty(&offer().json_schema()).unwrap());
}
