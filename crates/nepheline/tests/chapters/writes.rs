//! The chapter on writes.

use nepheline::Writes;
use nepheline::prelude::*;
use nepheline_coreshed::guarded::{
    Borehole, BoreholeToInsert, Site, SiteToInsert, Specimen, not_withdrawn,
};

use crate::support::chapter::Chapter;

/// The region of the site where KP-1 was drilled.
fn region_of_kp() -> Expr<Option<String>> {
    Borehole::rows()
        .filter(|b| b.name.eq("KP-1"))
        .select(|b| b.site().region)
        .value()
}

#[test]
fn writes() {
    let mut chapter = Chapter::new(
        include_str!("writes.rs"),
        r#"
# Writes

Inserts, updates and deletes are values too, and run when a handle writes them. The tables are those of the core
shed with [policies](policies.md), which apply to writes too. A test writes this page. It runs each write on SQLite,
PostgreSQL and MariaDB, requires the same result, and rolls it back. The SQL is PostgreSQL's.
"#,
    );

    chapter.section("Inserted, updated, deleted");
    wrote!(
        &mut chapter,
        "A new row. `SiteToInsert` has neither the generated key nor the agency, which the handle carries.",
        Site::insert(SiteToInsert {
            name: "Lower Fell".into(),
            region: "Upper Tarn".into(),
            closed_on: None,
        })
    );
    wrote!(
        &mut chapter,
        "A new row with a value that the database computes. `column.set_default()` takes the default of a column.",
        Site::insert(SiteToInsert {
            name: "Far Fell".into(),
            region: String::new(),
            closed_on: None
        })
        .computing(|s| s.region.set(region_of_kp().coalesce("Upper Tarn")))
    );
    wrote!(
        &mut chapter,
        "An update with values of joined tables. What reads the row itself stands outside of the join.",
        Borehole::rows()
            .join(|b| b.specimens())
            .filter(|(_, s)| s.label.eq("KP-106"))
            .update(|(b, s)| b.depth_m.set(b.depth_m + s.base_m))
    );
    wrote!(
        &mut chapter,
        "An update with expressions, of the rows of a query. Hidden rows stay unchanged.",
        Specimen::rows()
            .filter(|s| s.borehole().site().region.eq("Upper Tarn") & s.top_m.lt(20))
            .update(|s| (s.top_m.set(s.top_m + 0.5), s.base_m.set(s.base_m + 0.5)))
    );
    wrote!(
        &mut chapter,
        "An update to a value of another table.",
        Specimen::rows().filter(|s| s.base_m.gt(600)).update(|s| {
            let bottom = Borehole::rows()
                .filter(|b| b.id.eq(s.borehole_id))
                .select(|b| b.depth_m);
            s.base_m.set(bottom.value().coalesce(0))
        })
    );
    wrote!(
        &mut chapter,
        "A soft delete. The table declares `retire(withdrawn_at)`, so the rows are marked with the time of the handle's clock.",
        Specimen::rows().filter(|s| s.top_m.gt(850)).delete()
    );
    wrote!(
        &mut chapter,
        "Restoring them is an update with the policy waived.",
        Specimen::rows()
            .waive(not_withdrawn)
            .filter(|s| s.withdrawn_at.is_not_null())
            .update(|s| s.withdrawn_at.set_null())
    );
    wrote!(
        &mut chapter,
        "An update in an order, up to a limit.",
        Specimen::rows()
            .filter(|s| s.assays().count().lt(2))
            .order_by(|s| (s.taken_on.asc(), s.id.asc()))
            .limit(2)
            .delete()
    );

    chapter.section("Upserts");
    wrote!(
        &mut chapter,
        "An upsert by a unique column. The closure assigns values of the stored row and of the new one. \
         `or_keep(|b| b.name)` would leave the stored row unchanged.",
        Borehole::insert(BoreholeToInsert {
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
let counts = db.write_upsert(&Lab::insert_all(labs).or_update(|l| l.name, |l, new| l.visits.set(l.visits + new.visits)))?;
println!("{} inserted, {} updated, {} unchanged", counts.inserted, counts.updated, counts.kept);
```

A stored row that a policy hides is neither updated nor inserted again: it counts as unchanged. PostgreSQL reports for each
row whether it was inserted, and MariaDB and MySQL in their counts. On SQLite, and where policies may hide rows, existing
rows are looked up first, in the same transaction. On MariaDB and MySQL an upsert may match on any unique column, and they do
not report which, so an upsert into a table with another unique column is refused there.

## Counts and returned rows

`write` returns the number of rows that were inserted, matched by the update, or deleted. The number is the same on every
engine, also where an assignment does not change a value.

```rust
let stored = db.write_returning_one(&Site::insert(new))?;          // the stored row, with its generated key
let heavier = db.write_returning(&of_today.update(|s| s.base_m.set(s.base_m + 0.5)))?;   // the rows after the update
```

MariaDB and MySQL cannot return the rows of an UPDATE. `write_returning` of an update takes three statements there, in one
transaction: it reads and locks the keys, updates the rows, and reads them. MySQL cannot return the rows of an INSERT or
DELETE either, so that is refused. Both refuse to return the rows of an upsert that may leave rows unchanged.

## Parents with their children

```rust
let families = vec![(borehole, vec!["KP-9-1", "KP-9-2"])];
let stored: Vec<(Borehole, Vec<Specimen>)> = db.insert_with_children(families, |borehole, label| SpecimenToInsert {
    borehole_id: borehole.id,                                      // the key that the database has generated
    label: label.to_owned(),
})?;
```

One INSERT has the parents and one has all children, in one transaction.

## Many rows

```rust
let rows = db.write(&Specimen::insert_all(rows))?;                 // all rows or none
let rows = db.insert_stream(lines.map(parsed))?;       // an iterator of any length, in constant memory: all rows or none
let rows = db.write(&totals.insert_into::<Listed>())?;      // INSERT .. SELECT: the fields of the struct name the columns
// Each row gets values of its own: some hundred rows in one UPDATE, all updates in one transaction.
let updates = Specimen::rows().update_each(measured, |s, m| (s.id.eq(m.id), (s.top_m.set(m.top), s.base_m.set(m.base))));
let rows = db.write_each(&updates)?;
```

Many rows are written in few statements, in one transaction. On PostgreSQL more than 1,000 rows are written by COPY, 10,000
at a time. A table that accepts only INSERT, because it is a view, has rules or row-level security, or converts the
values, gets inserts. If the database refuses a row, nothing is stored. The error has the number of the row
(`err.row()`), the kind (`UniqueViolation`, `ParentNotFound`, `StillReferenced`, `CheckViolation`, `NotNullViolation`), and,
if the engine reports them, `err.constraint()`, `err.table()` and `err.column()`. Where nobody reports which side of a
foreign key is violated, as SQLite in an update that sets a key and a reference, the kind is `ForeignKeyViolation`.

## What is refused

A write without any condition is refused, unless `every_row()` allows it. A column that the database or the handle sets
cannot be assigned:

| attribute | on insert | on update and soft delete |
|---|---|---|
| `generated` | the database generates it | changes only if assigned |
| `carried(agency_id = AgencyId)` | takes the value that the handle carries | cannot be assigned |
| `version` | is 1 | is incremented; `.expecting(version)` fails with `StaleVersion` if another writer changed the row |
| `stamp = insert`, `stamp = write` | takes the time of the handle's clock | `stamp = write` takes it again |

All statements of a write have the same time. `db.carrying(Clock::stopped_at(at))` sets the clock, for tests.

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

One transaction reads and locks the rows, marks their children, and then marks the rows. Policies apply to the children:
hidden ones stay unchanged, unless `waive_everywhere` names the policy. A table in `with(..)` that does not retire its rows
does not compile. `delete_for_good()` deletes the rows from the database, and leaves the children to its foreign keys.
"#,
    );
    chapter.finish("writes.md");
}
