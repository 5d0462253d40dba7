//! The chapter on selections, groups, windows, sets and pages.

use nepheline::prelude::*;
use nepheline::{TruncUnit, recursive};
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

Selections, groups, aggregates, window functions, set operations and pages over the core shed. A test writes this page.
It runs each query on SQLite, PostgreSQL and MariaDB and requires equal rows. Each entry shows the Rust code, PostgreSQL's
SQL and the rows.

A selection has one level, which decides the rows of the result:

| selected | result |
|---|---|
| columns, and expressions over columns | a row for each row |
| aggregates: `count()`, `count_of(x)`, `count_distinct(x)`, `sum`, `avg`, `min`, `max`, `stddev_samp`, `stddev_pop`, `var_samp`, `var_pop`, `median` (not on MariaDB and MySQL), `all_true(c)`, `any_true(c)`, `listagg(x, ", ")` | one row, even without rows |
| aggregates and keys: `per(x)` | a row for each group of rows |

A column that is neither in `per(..)` nor inside an aggregate does not compile, nor does an aggregate in
`filter`. An aggregate of aggregates, such as `sum(sum(x))`, needs a window over the groups: `over_groups` (see
[reports](reports.md)). `.filter(condition)` on an aggregate is SQL's FILTER. Text keys compare by code point,
and NULL is a key of its own.

The row shapes of this page:

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
// A numbered page with totals: two statements. In a serializable transaction both see the same data.
let page = db.read_page(&query, Paging::page_size(20).page(3))?;
println!("{} of {} pages, {} rows", page.number(), page.total_pages(), page.total_rows());

// Keyset pagination: one statement, at the same cost for every position.
let page = db.read_after(&query, None, 20)?;
let next = page.after().map(|cursor| cursor.to_string());      // text for a URL
let page = db.read_after(&query, Some(&text.parse()?), 20)?;   // refused for another query
let page = db.read_before(&query, Some(&cursor), 20)?;         // and back
```

The order may have mixed directions, NULLs and expressions. The primary key is appended to it, so that no row is skipped or
repeated. A cursor belongs to the tables and the order, whatever the query filters and selects, so it stays valid when the
program gains a column. A plain cursor can be read and forged; a handle that carries `CursorKeys` encrypts its cursors
and refuses others: `db.carrying(CursorKeys::new(key).accepting(earlier_key))`.

## With or without groups

A grouped query returns other rows, so it has another type. Both can share the query before `select`:

```rust
let filtered = Specimen::rows().filter(unassigned).filter(|s| request.rock.map(|rock| s.rock.eq(rock)));
match request.by_region {
    true => show_regions(db.read(&filtered.select(|s| (per(s.borehole().site().region), count())))?),
    false => show_specimens(db.read(&filtered.order_by(|s| s.label.asc()))?),
}
```

Call `order_by` after that: rows are ordered by columns, groups by keys and aggregates.

## Locks

`for_update()`, `for_update_skip_locked()` and `for_update_nowait()` lock the rows that are read until the
transaction ends, on PostgreSQL, MariaDB and MySQL. SQLite refuses them, because its transactions lock the whole
database.
"#,
    );
    chapter.finish("totals.md");
}

fn shapes(chapter: &mut Chapter) {
    chapter.section("Shapes");
    ask!(
        chapter,
        "`shaped_as` selects the columns that a struct names by its fields.",
        Specimen::rows()
            .shaped_as::<Depth>()
            .order_by(|s| s.top_m.desc())
            .limit(20)
    );
    ask!(
        chapter,
        "A whole row that may be missing, beside values.",
        Specimen::rows()
            .filter(|s| s.borehole().name.eq("LM-1") & s.top_m.lt(60))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.analyst(), s.assays().count()))
    );
    ask!(
        chapter,
        "DISTINCT. The rows can only be ordered by selected values.",
        Specimen::rows()
            .select(|s| s.rock)
            .distinct()
            .order_by(|s| s.rock.asc())
    );
    ask!(
        chapter,
        "The first row for each value, in the order of the query.",
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
        "A key from a parent, aggregates, HAVING, and an order by an aggregate.",
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
        "Without a key there is one row. FILTER limits the rows of an aggregate.",
        Assay::rows().select(|a| {
            let late = a.reported_on.gt(a.due_on);
            (count(), count().filter(a.reported_on.is_null()), count().filter(late), max(a.ppm))
        })
    );
    ask!(
        chapter,
        "A computed key, by month. It stands in the list once, and the order is its ordinal.",
        Specimen::rows()
            .filter(|s| s.taken_on.year().ge(2024))
            .select(|s| (per(s.taken_on.date_trunc(TruncUnit::Month)), count()))
            .order_by(|s| per(s.taken_on.date_trunc(TruncUnit::Month)).desc())
    );
    ask!(
        chapter,
        "A computed key that is used again is computed once, in a derived table.",
        Specimen::rows()
            .select(|s| (per(s.id % 4) + 1, count()))
            .order_by(|s| per(s.id % 4).asc())
    );
    ask!(
        chapter,
        "`group_by` adds a key that is not selected: two analysts share the name Robin Hale.",
        Specimen::rows()
            .filter(|s| s.analyst_id.ge(5))
            .select(|s| (per(s.analyst().map(|a| a.name)), count()))
            .group_by(|s| s.analyst_id)
            .order_by(|s| (per(s.analyst().map(|a| a.name)).desc(), count().desc()))
    );
    ask!(
        chapter,
        "Subtotals: a `rollup` key is `None` in the rows of its subtotal and of the grand total.",
        Specimen::rows()
            .filter(|s| s.rock.one_of([Rock::Basalt, Rock::Gneiss]))
            .select(|s| {
                (rollup(s.borehole().site().region), rollup(s.rock), count(), max(s.base_m))
            })
            .order_by(|s| (rollup(s.borehole().site().region).asc(), rollup(s.rock).asc()))
    );
    ask!(
        chapter,
        "`array_agg` collects the values of a group, read as a `Array<String>`.",
        Site::rows()
            .select(|s| (per(s.region), array_agg(s.name).ordered_by(s.name.asc())))
            .order_by(|s| per(s.region).asc())
    );
    ask!(
        chapter,
        "Groups of groups: the number of boreholes for each number of specimens.",
        from(Specimen::rows().select(|s| {
            shape!(PerBorehole { borehole_id: per(s.borehole_id), specimens: count() })
        }))
        .filter(|b| b.specimens.gt(10))
        .select(|b| (per(b.specimens), count()))
        .order_by(|b| per(b.specimens).desc())
    );
    ask!(
        chapter,
        "A grouped query is joined as a derived table.",
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
        "A grouped companion: the rocks of each borehole, in one further statement.",
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
        "A row number, the previous row, the gap to it (or to the surface), and a running sum.",
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
        "`limit_each` keeps three rows for each value.",
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
        "A UNION of the names of sites and labs. The result is a query of its own.",
        Site::rows()
            .select(|s| shape!(Named { name: s.name }))
            .union(Lab::rows().select(|l| shape!(Named { name: l.name })))
            .order_by(|n| n.name.asc())
    );
    ask!(
        chapter,
        "A common table expression in two places: boreholes with more specimens than the average.",
        {
            let totals = cte(Specimen::rows().select(|s| {
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
        "A recursion: the tree of specimens that were split from one.",
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
        "An aggregate as a scalar subquery in a filter.",
        Borehole::rows()
            .filter(|b| b
                .depth_m
                .gt(Borehole::rows().select(|b| avg(b.depth_m)).value()))
            .order_by(|b| b.depth_m.desc())
            .select(|b| (b.name, b.depth_m))
    );
}
