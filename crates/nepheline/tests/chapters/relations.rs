//! What is asked across tables.

use nepheline::prelude::*;
use nepheline_coreshed::{Analyst, Assay, Borehole, Site, Specimen};

use crate::support::chapter::Chapter;

#[test]
fn relations() {
    let mut chapter = Chapter::new(
        include_str!("relations.rs"),
        "
# Relations

Questions across tables, asked of the core shed: each with its Rust, its SQL on PostgreSQL and its
answer. This page is written by a test, which asks SQLite, PostgreSQL and MariaDB and expects one answer.

What leads from table to table is declared on the structs and becomes a method of the columns:

| declared | gives |
|---|---|
| `#[nepheline(references = Borehole)] borehole_id: i64` | `s.borehole()`: the parent, through an INNER JOIN |
| the same on an `Option<i64>` | a `Maybe` of the parent, through a LEFT JOIN |
| `references(tray: Tray by (rack, shelf))` on the struct | a parent by several columns, or by a unique one |
| `children(assays: Assay by specimen_id)` | `s.assays()`: a query for the children |
| `child(collar: Collar by borehole_id)` | `b.collar()`: the other side of a one-to-one |
| `linked(hazards: Hazard via SpecimenHazard)` | `s.hazards()`: a query through a table between |

A row in hand has the same methods: `specimen.assays()` is the query for its assays.
",
    );

    chapter.section("Parents, followed");
    ask!(
        &mut chapter,
        "A parent's column in a filter. The joins appear because they are used, and each path once.",
        Specimen::rows()
            .filter(|s| s.borehole().site().region.eq("Upper Tarn"))
            .order_by(|s| (s.borehole().name.asc(), s.top_m.asc()))
            .limit(20)
            .select(|s| (s.label, s.borehole().name))
    );
    ask!(
        &mut chapter,
        "A parent that there may not be is a `Maybe`: what is asked of it is an `Option`.",
        Specimen::rows()
            .filter(|s| s.id.le(20))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.analyst().map(|a| a.name)))
    );
    ask!(
        &mut chapter,
        "The same table twice: the specimen that one was split from, and where that begins.",
        Specimen::rows()
            .filter(|s| s.parent().is_some_and(|p| p.top_m.ge(300)))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.parent().map(|p| p.label)))
    );

    chapter.section("Children, asked");
    ask!(
        &mut chapter,
        "Whether there is a child with something. No row of the parent is there twice.",
        Specimen::rows()
            .filter(|s| s.assays().any(|a| a.element.eq("Nd") & a.ppm.ge(400)))
            .order_by(|s| s.id.asc())
            .select(|s| s.label)
    );
    ask!(
        &mut chapter,
        "Two levels: sites with a borehole that has a specimen of which nobody wrote an analyst down.",
        Site::rows()
            .filter(|s| s
                .boreholes()
                .flat_map(|b| b.specimens())
                .any(|p| p.analyst_id.is_null()))
            .order_by(|s| s.id.asc())
            .select(|s| s.name)
    );
    ask!(
        &mut chapter,
        "At least so many. The engine may stop at the eighth.",
        Specimen::rows()
            .filter(|s| s.assays().count().ge(8))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.assays().count()))
    );
    ask!(
        &mut chapter,
        "All of them: no child that fails, and one that is NULL fails.",
        Specimen::rows()
            .filter(|s| s.assays().exists() & s.assays().all_satisfy(|a| a.reported_on.gt(a.due_on)))
            .order_by(|s| s.id.asc())
            .select(|s| s.label)
    );
    ask!(
        &mut chapter,
        "The last by an order, and the greatest, as values.",
        Borehole::rows()
            .order_by(|b| b.id.asc())
            .select(|b| {
                let newest = b.specimens().order_by(|s| (s.taken_on.asc(), s.id.asc()));
                (b.name, newest.last(|s| s.label), b.specimens().max(|s| s.base_m))
            })
            .limit(20)
    );

    chapter.section("Rows side by side");
    ask!(
        &mut chapter,
        "Along relations, read as a tuple of rows: one statement.",
        Specimen::rows()
            .join(|s| s.borehole())
            .filter(|(s, b)| s.base_m.gt(b.depth_m * 0.98))
            .order_by(|(s, _)| s.id.asc())
            .select(|(s, b)| (s.label, s.base_m, b.depth_m))
    );
    ask!(
        &mut chapter,
        "On any condition: two analysts who share a name.",
        Analyst::rows()
            .join(|a| Analyst::rows().filter(|b| b.name.eq(a.name) & b.id.gt(a.id)))
            .select(|(a, b)| (a.name, a.id, b.id))
    );

    chapter.section("Children alongside");
    ask!(
        &mut chapter,
        "Each borehole with its two deepest specimens: two statements, however many boreholes there are. \
         The list of keys is made of the rows that the first one reads.",
        Borehole::rows()
            .filter(|b| b.depth_m.gt(800))
            .order_by(|b| b.id.asc())
            .select(|b| b.name)
            .alongside(|b| b
                .specimens()
                .order_by(|s| s.top_m.desc())
                .limit(2)
                .select(|s| (s.label, s.top_m)))
    );
    ask!(
        &mut chapter,
        "One inside another, and several: three statements.",
        Specimen::rows()
            .filter(|s| s.hazards().exists())
            .order_by(|s| s.id.asc())
            .limit(10)
            .select(|s| s.label)
            .alongside(|s| s.hazards().order_by(|h| h.id.asc()).select(|h| h.name))
            .alongside(|s| {
                Assay::rows()
                    .filter(|a| a.specimen_id.eq(s.id) & a.ppm.gt(300))
                    .order_by(|a| a.id.asc())
                    .select(|a| (a.element, a.ppm))
            })
    );
    chapter.finish("relations.md");
}
