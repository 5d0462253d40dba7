//! Shapes, groups, windows, sets and pages.

use nepheline::prelude::*;
use nepheline::{TimeUnit, recursive};
use nepheline_coreshed::{Assay, Borehole, Lab, Rock, Site, Specimen};

use crate::support::chapter::Chapter;

#[derive(Debug, Clone, PartialEq, RowShape)]
struct RegionTotal {
    region: String,
    specimens: i64,
    longest: Option<f64>,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct PerBorehole {
    borehole_id: i64,
    specimens: i64,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Named {
    #[nepheline(by_code_point)]
    name: String,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Part {
    id: i64,
    #[nepheline(by_code_point)]
    label: String,
    level: i64,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
#[nepheline(shaped_from(Specimen))]
struct Depth {
    label: String,
    top_m: f64,
}

#[test]
fn totals() {
    let mut chapter = Chapter::new(
        include_str!("totals.rs"),
        r#"
# Totals

Shapes, groups, totals, windows, sets and pages, asked of the core shed: each with its Rust, its SQL on
PostgreSQL and its answer. This page is written by a test, which asks SQLite, PostgreSQL and MariaDB and
expects one answer.

A selection is all of one level, and the level decides what the query is:

| selected | gives |
|---|---|
| columns, and what is computed from them | a row for each row |
| aggregates: `count()`, `count_of(x)`, `count_distinct(x)`, `sum`, `avg`, `min`, `max`, `all_true(c)`, `any_true(c)`, `joined(x, ", ")` | one row, also of no rows |
| aggregates and keys: `per(x)` | a row for each group of rows |

A column that is neither in `per(..)` nor inside an aggregate does not compile, nor does an aggregate in
`filter` or in an aggregate. `.among(condition)` on an aggregate says which rows count. Text keys are told
apart by code point, and NULL is a key like any.

The structs that rows are selected into:

```rust
#[derive(RowShape)]
struct RegionTotal { region: String, specimens: i64, longest: Option<f64> }

#[derive(RowShape)]
struct PerBorehole { borehole_id: i64, specimens: i64 }

#[derive(RowShape)]
#[nepheline(shaped_from(Specimen))] // for shaped_as
struct Depth { label: String, top_m: f64 }
```
"#,
    );

    shapes(&mut chapter);
    groups(&mut chapter);
    windows(&mut chapter);
    sets(&mut chapter);
    chapter.append(
        r#"
## Pages

```rust
// A numbered page with totals: two statements. In a serializable transaction they are of one moment.
let page = db.read_page(&query, Paging::of(20).number(3))?;
println!("{} of {} pages, {} rows", page.number(), page.all_pages(), page.all_rows());

// A page that goes on after a row: one statement, which costs the same however far that is.
let stretch = db.read_after(&query, None, 20)?;
let next = stretch.after().map(|cursor| cursor.to_string());      // text for a URL
let stretch = db.read_after(&query, Some(&text.parse()?), 20)?;   // refused if it is of another query
let stretch = db.read_before(&query, Some(&cursor), 20)?;         // and back
```

A cursor goes with any order: mixed directions, NULLs, expressions; the primary key is added, so that no
row is skipped or given twice. It belongs to the tables and the order, whatever the query filters and selects, so
that it stays right when the program gains a column. A plain cursor can be read and forged; a handle that carries
`CursorKeys` encrypts its cursors and takes no others: `db.carrying(CursorKeys::new(key).accepting(earlier_key))`.

## With or without groups

A grouped query reads other rows, so it has another type. What both share is the query before `select`:

```rust
let filtered = Specimen::rows().filter(unassigned).filter(|s| request.rock.map(|rock| s.rock.eq(rock)));
match request.by_region {
    true => show_regions(db.read(&filtered.select(|s| (per(s.borehole().site().region), count())))?),
    false => show_specimens(db.read(&filtered.order_by(|s| s.label.asc()))?),
}
```

Orders come after that fork: rows are ordered by their columns, groups by keys and totals.

## Locks

`for_update()`, `for_update_skip_locked()` and `for_update_no_wait()` lock the rows that are read until the
transaction ends, on PostgreSQL, MariaDB and MySQL. SQLite's transactions lock the whole database, so
there they are refused.
"#,
    );
    chapter.finish("totals.md");
}

fn shapes(chapter: &mut Chapter) {
    chapter.section("Shapes");
    ask!(
        chapter,
        "The columns that a struct asks for by the names of its fields.",
        Specimen::rows()
            .shaped_as::<Depth>()
            .order_by(|s| s.top_m.desc())
            .limit(20)
    );
    ask!(
        chapter,
        "A whole row beside a value and a row that there may not be.",
        Specimen::rows()
            .filter(|s| s.borehole().name.eq("LM-1") & s.top_m.lt(60))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.analyst(), s.assays().count()))
    );
    ask!(
        chapter,
        "Each value once. What is ordered by has to be selected.",
        Specimen::rows()
            .select(|s| s.rock)
            .distinct()
            .order_by(|s| s.rock.asc())
    );
    ask!(
        chapter,
        "The first of each, by an order: so many rows of those that are alike.",
        Specimen::rows()
            .order_by(|s| (s.top_m.desc(), s.id.asc()))
            .limit_each(1, |s| s.borehole_id)
            .select(|s| (s.borehole().name, s.label, s.top_m))
    );
}

fn groups(chapter: &mut Chapter) {
    chapter.section("Groups");
    ask!(
        chapter,
        "A key from a parent, totals, a condition on the groups, and an order by a total: the top of the regions.",
        Specimen::rows()
            .filter(|s| s.top_m.gt(50))
            .select(|s| {
                shape!(RegionTotal {
                    region: per(s.borehole().site().region),
                    specimens: count(),
                    longest: max(s.borehole().depth_m),
                })
            })
            .having(|_| count().ge(100))
            .order_by(|s| (count().desc(), per(s.borehole().site().region).asc()))
            .limit(5)
    );
    ask!(
        chapter,
        "Without a key: one row. Some of the rows count for some of the totals.",
        Assay::rows().select(|a| {
            let late = a.reported_on.gt(a.due_on);
            (count(), count().among(a.reported_on.is_null()), count().among(late), max(a.ppm))
        })
    );
    ask!(
        chapter,
        "By month: a computed key stands in the list once, and the order names its place.",
        Specimen::rows()
            .filter(|s| s.taken_on.year().ge(2024))
            .select(|s| (per(s.taken_on.truncated_to(TimeUnit::Month)), count()))
            .order_by(|s| per(s.taken_on.truncated_to(TimeUnit::Month)).desc())
    );
    ask!(
        chapter,
        "A computed key that is used again is computed once, in a query inside.",
        Specimen::rows()
            .select(|s| (per(s.id % 4) + 1, count()))
            .order_by(|s| per(s.id % 4).asc())
    );
    ask!(
        chapter,
        "A name is shown, and a key tells apart who shares it: two analysts are called Robin Hale.",
        Specimen::rows()
            .filter(|s| s.analyst_id.ge(5))
            .select(|s| (per(s.analyst().map(|a| a.name)), count()))
            .group_by(|s| s.analyst_id)
            .order_by(|s| (per(s.analyst().map(|a| a.name)).desc(), count().desc()))
    );
    ask!(
        chapter,
        "Subtotals: what stands in `rollup` is `None` in the row for all of it, last of all in the grand total.",
        Specimen::rows()
            .filter(|s| s.rock.one_of([Rock::Basalt, Rock::Gneiss]))
            .select(|s| {
                (rollup(s.borehole().site().region), rollup(s.rock), count(), max(s.base_m))
            })
            .order_by(|s| (rollup(s.borehole().site().region).asc(), rollup(s.rock).asc()))
    );
    ask!(
        chapter,
        "The values of a group in one list, read as a `Collected<String>`.",
        Site::rows()
            .select(|s| (per(s.region), collected(s.name).ordered_by(s.name.asc())))
            .order_by(|s| per(s.region).asc())
    );
    ask!(
        chapter,
        "Groups of groups: how many boreholes have so many specimens.",
        from(Specimen::rows().select(|s| {
            shape!(PerBorehole { borehole_id: per(s.borehole_id), specimens: count() })
        }))
        .filter(|b| b.specimens.gt(10))
        .select(|b| (per(b.specimens), count()))
        .order_by(|b| per(b.specimens).desc())
    );
    ask!(
        chapter,
        "Totals beside rows: a query of groups is joined like a table.",
        Borehole::rows()
            .join(|b| {
                let totals = Specimen::rows().select(|s| {
                    shape!(PerBorehole { borehole_id: per(s.borehole_id), specimens: count() })
                });
                from(totals).filter(|t| t.borehole_id.eq(b.id))
            })
            .filter(|(_, t)| t.specimens.ge(20))
            .order_by(|(_, t)| (t.specimens.desc(), t.borehole_id.asc()))
            .select(|(b, t)| (b.name, t.specimens))
    );
    ask!(
        chapter,
        "Totals alongside: the rocks of each borehole, in one further statement.",
        Borehole::rows()
            .order_by(|b| b.id.asc())
            .limit(10)
            .select(|b| b.name)
            .alongside(|b| {
                let rocks = b.specimens().select(|s| (per(s.rock), count()));
                rocks.order_by(|s| (count().desc(), per(s.rock).asc()))
            })
    );
}

fn windows(chapter: &mut Chapter) {
    chapter.section("Windows");
    ask!(
        chapter,
        "Numbers, the row before, the gap to it (or to the surface), and a running sum.",
        Specimen::rows()
            .filter(|s| s.borehole().name.eq("LM-1"))
            .order_by(|s| s.top_m.asc())
            .select(|s| {
                let deeper = sum(s.id).over(|w| w.order_by(s.top_m.asc()).rows(..=0));
                (
                    s.label,
                    row_number().over(|w| w.partition_by(s.rock).order_by(s.top_m.asc())),
                    lag(s.label, 1).over(|w| w.order_by(s.top_m.asc())),
                    s.top_m - lag_or(s.base_m, 1, 0).over(|w| w.order_by(s.top_m.asc())),
                    deeper,
                )
            })
    );
    ask!(
        chapter,
        "Three of each: a window that is filtered, in one call.",
        Specimen::rows()
            .order_by(|s| (s.taken_on.desc(), s.id.asc()))
            .limit_each(3, |s| s.rock)
            .select(|s| (s.rock, s.label, s.taken_on))
    );
}

fn sets(chapter: &mut Chapter) {
    chapter.section("Sets, and queries as sources");
    ask!(
        chapter,
        "The names of sites and labs, each once. The result is a query of its own.",
        Site::rows()
            .select(|s| shape!(Named { name: s.name }))
            .union(Lab::rows().select(|l| shape!(Named { name: l.name })))
            .order_by(|n| n.name.asc())
    );
    ask!(
        chapter,
        "One query in two places, written and computed once: boreholes with more specimens than most.",
        {
            let totals = named(Specimen::rows().select(|s| {
                shape!(PerBorehole { borehole_id: per(s.borehole_id), specimens: count() })
            }));
            let mean = totals.rows().select(|t| avg(t.specimens)).value();
            totals
                .rows()
                .filter(|t| t.specimens.cast::<f64>().gt(mean * 1.5))
                .order_by(|t| (t.specimens.desc(), t.borehole_id.asc()))
        }
    );
    ask!(
        chapter,
        "Rows that lead to further rows: the tree of what was split from a specimen.",
        recursive(
            Specimen::rows()
                .filter(|s| s.parent_id.is_null() & s.parts().exists())
                .select(|s| shape!(Part { id: s.id, label: s.label, level: bind(0_i64) })),
            20,
            |whole| {
                Specimen::rows()
                    .join(|s| whole.filter(|w| s.parent_id.eq(w.id)))
                    .select(|(s, w)| shape!(Part { id: s.id, label: s.label, level: w.level + 1 }))
            },
        )
        .order_by(|p| (p.level.desc(), p.label.asc()))
    );
    ask!(
        chapter,
        "A total as a value in a filter.",
        Borehole::rows()
            .filter(|b| b
                .depth_m
                .gt(Borehole::rows().select(|b| avg(b.depth_m)).value()))
            .order_by(|b| b.depth_m.desc())
            .select(|b| (b.name, b.depth_m))
    );
}
