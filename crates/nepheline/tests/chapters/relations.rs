//! The chapter on relations.

use nepheline::prelude::*;
use nepheline_coreshed::{Analyst, Assay, Borehole, Site, Specimen};

use crate::support::chapter::Chapter;

#[test]
fn relations() {
    let mut chapter = Chapter::new(
        include_str!("relations.rs"),
        "
# Relations

Parents, children, joins and subqueries over the core shed. A test writes this page. It runs each query on SQLite,
PostgreSQL and MariaDB and requires equal rows. Each entry shows the Rust code, PostgreSQL's SQL and the rows.

A relation is declared on a struct, and becomes a method of its columns:

| declaration | method |
|---|---|
| `#[nepheline(references = Borehole)] borehole_id: i64` | `s.borehole()`: the parent, by an INNER JOIN |
| the same on an `Option<i64>` | a `Maybe` of the parent, by a LEFT JOIN; `.required()` keeps only rows that have it, by an INNER JOIN |
| `references(tray: Tray by (rack, shelf))` on the struct | a parent by several columns |
| `children(assays: Assay by specimen_id)` | `s.assays()`: a query for the children |
| `optional_child(collar: Collar by borehole_id)` | `b.collar()`: a `Maybe` of the other side of a one-to-one |
| `bridged(hazards: Hazard across SpecimenHazard)` | `s.hazards()`: a query over a bridge table |

A row has the same methods: `specimen.assays()` is the query for its assays.
",
    );

    chapter.section("Parents");
    ask!(
        &mut chapter,
        "A parent's column in a filter. A join appears only where it is used, and once for each path.",
        Specimen::rows()
            .filter(|s| s.borehole().site().region.eq("Upper Tarn"))
            .order_by(|s| (s.borehole().name.asc(), s.top_m.asc()))
            .limit(20)
            .select(|s| (s.label, s.borehole().name))
    );
    ask!(
        &mut chapter,
        "A nullable parent is a `Maybe`, and its columns are `Option`s.",
        Specimen::rows()
            .filter(|s| s.id.le(20))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.analyst().map(|a| a.name)))
    );
    ask!(
        &mut chapter,
        "The same table twice: the specimen that another was split from, and its depth.",
        Specimen::rows()
            .filter(|s| s.parent().is_some_and(|p| p.top_m.ge(300)))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.parent().map(|p| p.label)))
    );

    chapter.section("Children, asked");
    ask!(
        &mut chapter,
        "`any` tests for a child with a property: EXISTS. It never repeats a row of the parent.",
        Specimen::rows()
            .filter(|s| s.assays().any(|a| a.element.eq("Nd") & a.ppm.ge(400)))
            .order_by(|s| s.id.asc())
            .select(|s| s.label)
    );
    ask!(
        &mut chapter,
        "Two levels: sites with a borehole that has a specimen without an analyst.",
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
        "At least eight children. The engine may stop at the eighth.",
        Specimen::rows()
            .filter(|s| s.assays().count().ge(8))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.assays().count()))
    );
    ask!(
        &mut chapter,
        "`all` requires every child to pass. A child for which the condition is NULL does not pass.",
        Specimen::rows()
            .filter(|s| s.assays().exists() & s.assays().all(|a| a.reported_on.gt(a.due_on)))
            .order_by(|s| s.id.asc())
            .select(|s| s.label)
    );
    ask!(
        &mut chapter,
        "The last child in an order, and the greatest value, as columns.",
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
        "A join along relations returns tuples of rows: one statement.",
        Specimen::rows()
            .join(|s| s.borehole())
            .filter(|(s, b)| s.base_m.gt(b.depth_m * 0.98))
            .order_by(|(s, _)| s.id.asc())
            .select(|(s, b)| (s.label, s.base_m, b.depth_m))
    );
    ask!(
        &mut chapter,
        "A join on any condition: two analysts who share a name.",
        Analyst::rows()
            .join(|a| Analyst::rows().filter(|b| b.name.eq(a.name) & b.id.gt(a.id)))
            .select(|(a, b)| (a.name, a.id, b.id))
    );

    chapter.section("Children alongside");
    ask!(
        &mut chapter,
        "Each borehole with its two deepest specimens: two statements for any number of boreholes. The second \
         binds the keys that the first one read.",
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
        "Two companions: three statements.",
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
