//! Chapters of the documentation: for each question the Rust, the SQL, and the answer that SQLite,
//! PostgreSQL and MariaDB give alike.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::fmt::Debug;

use nepheline::Readable;
use nepheline::blocking::{Database, Handle};
use nepheline::prelude::*;
use nepheline::{Clock, TimeUnit, Writes, recursive};
use nepheline_coreshed::guarded::AgencyId;
use nepheline_coreshed::{Analyst, Assay, Borehole, Lab, Rock, Site, Specimen};
use support::chapter::{Chapter, Shows};
use support::shed::sheds;

/// What the handles of a chapter carry.
fn carried() -> Carried {
    Carried::new()
        .with(AgencyId(1))
        .with(Clock::fixed("2024-06-01T09:30:00Z".parse().unwrap()))
}

fn carrying(db: &Database) -> Database {
    let carried = carried();
    db.carrying(AgencyId(1))
        .carrying(carried.get::<Clock>().unwrap().clone())
}

/// Asks a question on every engine, and writes it down.
fn ask<Q>(chapter: &mut Chapter, what: &str, line: u32, query: &Q)
where
    Q: Readable<Row: Debug + PartialEq> + Shows,
{
    chapter.question(what, line);
    chapter.sql(&query.statements(Dialect::Postgres, &carried()).unwrap());
    let mut answers = sheds()
        .iter()
        .map(|(engine, db)| (engine, carrying(db).read(query).unwrap()));
    let (_, answer) = answers.next().unwrap();
    for (engine, other) in answers {
        assert_eq!(other, answer, "on {}: {what}", engine.name);
    }
    assert!(!answer.is_empty(), "{what}");
    chapter.answer(&answer);
}

/// Writes on every engine, tells how many rows that is, and undoes it.
fn wrote(chapter: &mut Chapter, what: &str, line: u32, write: &impl Writes, sql: nepheline::Sql) {
    chapter.question(what, line);
    chapter.sql(&[sql]);
    let told = sheds().iter().map(|(_, db)| {
        let mut told = None;
        let undone: Result<(), Error> = carrying(db).transaction(|tx| {
            told = Some(tx.write(write));
            Err(Error::abandoned())
        });
        undone.unwrap_err();
        match told.unwrap() {
            Ok(rows) => format!("{rows} rows"),
            Err(err) => format!("{:?}", err.kind()),
        }
    });
    let told: Vec<String> = told.collect();
    assert!(told.iter().all(|other| *other == told[0]), "{what}: {told:?}");
    chapter.append(&format!("```text\n{}\n```\n", told[0]));
}

macro_rules! wrote {
    ($chapter:expr, $what:literal, $write:expr $(,)?) => {{
        let write = $write;
        let sql = write.sql_carrying(Dialect::Postgres, &carried()).unwrap();
        wrote(&mut $chapter, $what, line!(), &write, sql)
    }};
}

macro_rules! ask {
    ($chapter:expr, $what:literal, $query:expr $(,)?) => {
        ask(&mut $chapter, $what, line!(), &$query)
    };
}

#[test]
fn relations() {
    let mut chapter = Chapter::new(
        include_str!("chapters.rs"),
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
        chapter,
        "A parent's column in a filter. The joins appear because they are used, and each path once.",
        Specimen::rows()
            .filter(|s| s.borehole().site().region.eq("Upper Tarn"))
            .order_by(|s| (s.borehole().name.asc(), s.top_m.asc()))
            .limit(20)
            .select(|s| (s.label, s.borehole().name))
    );
    ask!(
        chapter,
        "A parent that there may not be is a `Maybe`: what is asked of it is an `Option`.",
        Specimen::rows()
            .filter(|s| s.id.le(20))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.analyst().map(|a| a.name)))
    );
    ask!(
        chapter,
        "The same table twice: the specimen that one was split from, and where that begins.",
        Specimen::rows()
            .filter(|s| s.parent().is_some_and(|p| p.top_m.ge(300)))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.parent().map(|p| p.label)))
    );

    chapter.section("Children, asked");
    ask!(
        chapter,
        "Whether there is a child with something. No row of the parent is there twice.",
        Specimen::rows()
            .filter(|s| s.assays().any(|a| a.element.eq("Nd") & a.ppm.ge(400)))
            .order_by(|s| s.id.asc())
            .select(|s| s.label)
    );
    ask!(
        chapter,
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
        chapter,
        "At least so many. The engine may stop at the eighth.",
        Specimen::rows()
            .filter(|s| s.assays().count().ge(8))
            .order_by(|s| s.id.asc())
            .select(|s| (s.label, s.assays().count()))
    );
    ask!(
        chapter,
        "All of them: no child that fails, and one that is NULL fails.",
        Specimen::rows()
            .filter(|s| s.assays().exists() & s.assays().all_satisfy(|a| a.reported_on.gt(a.due_on)))
            .order_by(|s| s.id.asc())
            .select(|s| s.label)
    );
    ask!(
        chapter,
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
        chapter,
        "Along relations, read as a tuple of rows: one statement.",
        Specimen::rows()
            .join(|s| s.borehole())
            .filter(|(s, b)| s.base_m.gt(b.depth_m * 0.98))
            .order_by(|(s, _)| s.id.asc())
            .select(|(s, b)| (s.label, s.base_m, b.depth_m))
    );
    ask!(
        chapter,
        "On any condition: two analysts who share a name.",
        Analyst::rows()
            .join(|a| Analyst::rows().filter(|b| b.name.eq(a.name) & b.id.gt(a.id)))
            .select(|(a, b)| (a.name, a.id, b.id))
    );

    chapter.section("Children alongside");
    ask!(
        chapter,
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
        chapter,
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
        include_str!("chapters.rs"),
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
row is skipped or given twice. It is sealed against accidents, not against whoever wants to forge one, and
the values that it holds can be read.

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

#[test]
fn policies() {
    use nepheline_coreshed::guarded::{Borehole, Site, Specimen, not_archived, own_agency};
    let mut chapter = Chapter::new(
        include_str!("chapters.rs"),
        r#"
# Policies

Conditions that hold everywhere, and gates around every statement. The tables are those of the core shed with
policies: `crates/coreshed/src/guarded.rs`. A test writes this page: each question is asked of SQLite, PostgreSQL
and MariaDB, whose answers have to be equal. The SQL is PostgreSQL's.

```rust
#[derive(Debug, Table)]
#[nepheline(policies(not_withdrawn, of_visible_borehole), retire(withdrawn_at))]
struct Specimen { /* .. */ }

// A policy is a function, from the columns to a condition.
fn not_withdrawn(s: SpecimenColumns) -> Condition { s.withdrawn_at.is_null() }

// One that needs to know who is asking names the type of what handles carry.
fn own_agency(s: SiteColumns, agency: &AgencyId) -> Condition { s.agency_id.eq(*agency) }

let db = db.carrying(AgencyId(1));       // a cheap handle, for one request
```

A handle that does not carry what a policy needs runs nothing: every statement on the table is an error of
the kind `MissingCarried`, the SQL of `query.sql(dialect)` too. `query.sql_carrying(dialect, &carried)` shows
it, and `sql.policies()` lists which policies a statement came across, applied or waived, and where.
"#,
    );

    chapter.section("They hold wherever the table appears");
    ask!(
        chapter,
        "At the top.",
        Site::rows()
            .order_by(|s| s.id.asc())
            .select(|s| (s.id, s.name, s.agency_id))
    );
    ask!(
        chapter,
        "In questions to children, and in totals: what is withdrawn counts nowhere.",
        Borehole::rows()
            .filter(|b| b.specimens().count().ge(10))
            .order_by(|b| b.id.asc())
            .select(|b| (b.name, b.specimens().count(), b.specimens().max(|s| s.base_m)))
    );
    ask!(
        chapter,
        "In parents that are followed: a row whose required parent is hidden is hidden.",
        Specimen::rows()
            .select(|s| (per(s.borehole().site().region), count()))
            .order_by(|s| per(s.borehole().site().region).asc())
    );
    ask!(
        chapter,
        "In what is read alongside.",
        Site::rows().order_by(|s| s.id.asc()).alongside(|s| s
            .boreholes()
            .order_by(|b| b.id.asc())
            .limit(1)
            .select(|b| b.name))
    );

    chapter.section("Waived one by one");
    ask!(
        chapter,
        "Here: for the rows of this query, and nowhere else.",
        Site::rows()
            .waive(not_archived)
            .order_by(|s| s.id.asc())
            .select(|s| (s.name, s.closed_on, s.boreholes().count()))
    );
    ask!(
        chapter,
        "Everywhere in this query.",
        Site::rows()
            .waive_everywhere(not_archived)
            .order_by(|s| s.id.asc())
            .select(|s| (s.name, s.closed_on, s.boreholes().count()))
    );
    ask!(
        chapter,
        "Of all agencies, for whoever looks after the database; every other policy stays on.",
        Site::rows()
            .waive_everywhere(own_agency)
            .select(|s| (per(s.agency_id), count()))
            .order_by(|s| per(s.agency_id).asc())
    );

    chapter.append(
        r#"
## The database's own rules

On PostgreSQL the database can hold rules of its own. `db.mirroring::<AgencyId>("core.agency")` tells the session who
is asking, in each transaction and for it alone, so that a row security policy can ask for
`nullif(current_setting('core.agency', true), '')`. On such a handle statements run in transactions only.

## Gates

`db.through(gate)` puts code around every statement: it sees the tables, the operation, the SQL, the binds, the
line that asked, and whether there is a transaction; then the rows, the time and the error. It may refuse, or
answer in place of the database. `db.budget(3)` refuses the fourth statement and names the lines of the three before;
`Record` keeps what ran; `Traced` (feature `tracing`) tells `tracing`, without values unless asked.

```rust
let db = db.carrying(TraceContext::of(header.parse()?));       // .. /*traceparent='00-0af7..-b7ad..-01'*/
```

With a `TraceContext` each statement ends in a comment with the `traceparent` of W3C Trace Context, so that what
a server logs leads back to the request. Only a well-formed one can be carried. Since no two texts are the same then,
the server parses each; SQLite, which logs nothing, is sent no comment.

Writes are under the same policies: see [Writes](writes.snap.md).
"#,
    );
    chapter.finish("policies.md");
}

#[test]
fn writes() {
    use nepheline_coreshed::guarded::{
        Borehole, Site, Specimen, UnsavedBorehole, UnsavedSite, not_withdrawn,
    };
    let mut chapter = Chapter::new(
        include_str!("chapters.rs"),
        r#"
# Writes

Inserts, updates and deletes are values too, and run when a handle writes them. The tables are those of the core
shed with [policies](policies.snap.md), which hold for writes as for everything. A test writes this page: each write
is done on SQLite, PostgreSQL and MariaDB, which have to tell the same, and undone. The SQL is PostgreSQL's.
"#,
    );

    chapter.section("Inserted, updated, deleted");
    wrote!(
        chapter,
        "A new row. `UnsavedSite` has neither the key nor the agency, which is filled from what the handle carries.",
        Site::insert(UnsavedSite {
            name: "Lower Fell".into(),
            region: "Upper Tarn".into(),
            closed_on: None,
        })
    );
    wrote!(
        chapter,
        "Values and expressions, by what a query says. Hidden rows are not touched.",
        Specimen::rows()
            .filter(|s| s.borehole().site().region.eq("Upper Tarn") & s.top_m.lt(20))
            .update(|s| (s.top_m.set(s.top_m + 0.5), s.base_m.set(s.base_m + 0.5)))
    );
    wrote!(
        chapter,
        "To a value of another table.",
        Specimen::rows().filter(|s| s.base_m.gt(600)).update(|s| {
            let bottom = Borehole::rows()
                .filter(|b| b.id.eq(s.borehole_id))
                .select(|b| b.depth_m);
            s.base_m.set(bottom.value().if_null(0))
        })
    );
    wrote!(
        chapter,
        "A delete. The table says `retire(withdrawn_at)`, so rows are marked with the time of the handle's clock.",
        Specimen::rows().filter(|s| s.top_m.gt(850)).delete()
    );
    wrote!(
        chapter,
        "To restore is an update with the policy waived.",
        Specimen::rows()
            .waive(not_withdrawn)
            .filter(|s| s.withdrawn_at.is_not_null())
            .update(|s| s.withdrawn_at.set_null())
    );
    wrote!(
        chapter,
        "In an order, up to a limit.",
        Specimen::rows()
            .filter(|s| s.assays().count().lt(2))
            .order_by(|s| (s.taken_on.asc(), s.id.asc()))
            .limit(2)
            .delete()
    );

    chapter.section("Rows that may be there already");
    wrote!(
        chapter,
        "The row that is known by this name is updated, of the values of the stored row and of the new one. \
         `or_keep(|b| b.name)` would leave it as it is.",
        Borehole::insert(UnsavedBorehole {
            site_id: 2,
            name: "KP-02".into(),
            depth_m: 480.0,
            drilled_on: jiff::civil::date(2024, 5, 30),
            rig: String::new(),
        })
        .or_update(|b| b.name, |b, new| b.depth_m.set(new.depth_m))
    );
    chapter.append(
        r#"
```rust
let told = db.write_upsert(&Lab::insert_all(labs).or_update(|l| l.name, |l, new| l.visits.set(l.visits + new.visits)))?;
println!("{} new, {} known, {} left as they are", told.inserted, told.updated, told.kept);
```

A stored row that a policy hides is neither updated nor stored a second time: it is among those that are kept.
PostgreSQL tells of each row what became of it, MariaDB and MySQL by how they count; on SQLite, and there where policies
may hide rows, those that are there are looked for first, in the same transaction. MariaDB and MySQL go by any unique column and do not tell which, so rows that could be known by another
are refused there.

## How many, and which

`write` tells how many rows were inserted, found to be updated, or deleted: the same number on every engine, also
where a row is set to what it was.

```rust
let stored = db.write_returning_one(&Site::insert(new))?;          // the row as it is stored, with its key
let heavier = db.write_returning(&of_today.update(|s| s.base_m.set(s.base_m + 0.5)))?;   // the rows as they are now
```

Where an engine does not give rows back, `write_returning` of an update takes three statements in one transaction:
the keys are read and locked, the rows written and read again. So it is on MariaDB. MySQL gives back nothing that is
inserted or deleted, which is refused, and so is an upsert on both that may leave rows as they are.

## Many rows

```rust
let rows = db.write(&Specimen::insert_all(rows))?;                 // all of them, or none
let rows = db.insert_each(lines.map(parsed))?;       // an iterator of any length, in constant memory: all or none
let rows = db.write(&totals.insert_into::<Listed>())?;      // what a query finds, by the names of its struct's fields
```

Many rows go in the fewest statements that an engine takes well, in one transaction. On PostgreSQL more than 1,000
are copied (`COPY .. FROM STDIN`), 10,000 at a time; where a table only takes inserts, because it is a view, has rules
or row security, or converts the values, they are inserted. If the database refuses
one of them nothing is stored, and the error tells its number (`err.row()`), the kind (`UniqueViolation`,
`ForeignKeyViolation`, `CheckViolation`, `NotNullViolation`), and as far as the engine tells it
`err.constraint()`, `err.table()` and `err.column()`.

## What is refused

A write without any condition is refused, unless `every_row()` says that every row is meant. A column that the
database or the handle sets cannot be set:

| attribute | what an insert does | what an update does, and a delete that retires |
|---|---|---|
| `generated` | leaves it to the database | sets it only if told to |
| `fill(agency_id = AgencyId)` | takes the value that the handle carries | refuses to set it |
| `version` | begins at 1 | counts up; `.expecting(version)` is an error of the kind `StaleVersion` where somebody else was faster |
| `stamp = insert`, `stamp = write` | the time of the handle's clock | `stamp = write` again |

All statements of a write have the same time. `db.carrying(Clock::fixed(at))` sets the clock, for tests.

## Retired with their parents

```rust
#[derive(Debug, Table)]
#[nepheline(children(assays: Assay by specimen_id), retire(withdrawn_at, with(assays)))]
struct Specimen { /* .. */ }

#[derive(Debug, Table)]
#[nepheline(retire(withdrawn_at))]
struct Assay { /* .. */ }

let specimens = db.write(&Specimen::row(7).delete())?;     // its assays are marked too, with the same time
```

The rows are found first and locked, then their children are marked, and at last they themselves, in one
transaction. Policies hold for the children as everywhere: what is hidden stays as it is, unless
`waive_everywhere` names the policy. A table among `with(..)` that does not retire its rows does not compile.
`delete_for_good()` deletes also what is retired otherwise, and leaves children to the database.
"#,
    );
    chapter.finish("writes.md");
}
