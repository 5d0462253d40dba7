//! Inserts, updates and deletes.

use nepheline::Writes;
use nepheline::prelude::*;
use nepheline_coreshed::guarded::{
    Borehole, Site, Specimen, UnsavedBorehole, UnsavedSite, not_withdrawn,
};

use crate::support::chapter::Chapter;

#[test]
fn writes() {
    let mut chapter = Chapter::new(
        include_str!("writes.rs"),
        r#"
# Writes

Inserts, updates and deletes are values too, and run when a handle writes them. The tables are those of the core
shed with [policies](policies.snap.md), which hold for writes as for everything. A test writes this page: each write
is done on SQLite, PostgreSQL and MariaDB, which have to tell the same, and undone. The SQL is PostgreSQL's.
"#,
    );

    chapter.section("Inserted, updated, deleted");
    wrote!(
        &mut chapter,
        "A new row. `UnsavedSite` has neither the key nor the agency, which is filled from what the handle carries.",
        Site::insert(UnsavedSite {
            name: "Lower Fell".into(),
            region: "Upper Tarn".into(),
            closed_on: None,
        })
    );
    wrote!(
        &mut chapter,
        "Values and expressions, by what a query says. Hidden rows are not touched.",
        Specimen::rows()
            .filter(|s| s.borehole().site().region.eq("Upper Tarn") & s.top_m.lt(20))
            .update(|s| (s.top_m.set(s.top_m + 0.5), s.base_m.set(s.base_m + 0.5)))
    );
    wrote!(
        &mut chapter,
        "To a value of another table.",
        Specimen::rows().filter(|s| s.base_m.gt(600)).update(|s| {
            let bottom = Borehole::rows()
                .filter(|b| b.id.eq(s.borehole_id))
                .select(|b| b.depth_m);
            s.base_m.set(bottom.value().if_null(0))
        })
    );
    wrote!(
        &mut chapter,
        "A delete. The table says `retire(withdrawn_at)`, so rows are marked with the time of the handle's clock.",
        Specimen::rows().filter(|s| s.top_m.gt(850)).delete()
    );
    wrote!(
        &mut chapter,
        "To restore is an update with the policy waived.",
        Specimen::rows()
            .waive(not_withdrawn)
            .filter(|s| s.withdrawn_at.is_not_null())
            .update(|s| s.withdrawn_at.set_null())
    );
    wrote!(
        &mut chapter,
        "In an order, up to a limit.",
        Specimen::rows()
            .filter(|s| s.assays().count().lt(2))
            .order_by(|s| (s.taken_on.asc(), s.id.asc()))
            .limit(2)
            .delete()
    );

    chapter.section("Rows that may be there already");
    wrote!(
        &mut chapter,
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
