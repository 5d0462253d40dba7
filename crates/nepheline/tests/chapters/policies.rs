//! Conditions that hold everywhere, and gates.

use nepheline::prelude::*;
use nepheline_coreshed::guarded::{Borehole, Site, Specimen, not_archived, own_agency};

use crate::support::chapter::Chapter;

#[test]
fn policies() {
    let mut chapter = Chapter::new(
        include_str!("policies.rs"),
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

In a query they stand before its filters. No engine promises to go by that order: where a filter cannot be computed
for some row, as a sum that is too large, the error may be of a row that is hidden. It tells no value of it.

What they cannot see is hand-written text: a `verbatim!` that names a table of its own reads all rows of it. Put a
query into its `{}` instead. Nor is an insert asked whether its row will be seen: look for what it refers to first, in
the same transaction.
"#,
    );

    chapter.section("They hold wherever the table appears");
    ask!(
        &mut chapter,
        "At the top.",
        Site::rows()
            .order_by(|s| s.id.asc())
            .select(|s| (s.id, s.name, s.agency_id))
    );
    ask!(
        &mut chapter,
        "In questions to children, and in totals: what is withdrawn counts nowhere.",
        Borehole::rows()
            .filter(|b| b.specimens().count().ge(10))
            .order_by(|b| b.id.asc())
            .select(|b| (b.name, b.specimens().count(), b.specimens().max(|s| s.base_m)))
    );
    ask!(
        &mut chapter,
        "In parents that are followed: a row whose required parent is hidden is hidden.",
        Specimen::rows()
            .select(|s| (per(s.borehole().site().region), count()))
            .order_by(|s| per(s.borehole().site().region).asc())
    );
    ask!(
        &mut chapter,
        "In what is read alongside.",
        Site::rows().order_by(|s| s.id.asc()).alongside(|s| s
            .boreholes()
            .order_by(|b| b.id.asc())
            .limit(1)
            .select(|b| b.name))
    );

    chapter.section("Waived one by one");
    ask!(
        &mut chapter,
        "Here: for the rows of this query, and nowhere else.",
        Site::rows()
            .waive(not_archived)
            .order_by(|s| s.id.asc())
            .select(|s| (s.name, s.closed_on, s.boreholes().count()))
    );
    ask!(
        &mut chapter,
        "Everywhere in this query.",
        Site::rows()
            .waive_everywhere(not_archived)
            .order_by(|s| s.id.asc())
            .select(|s| (s.name, s.closed_on, s.boreholes().count()))
    );
    ask!(
        &mut chapter,
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
answer in place of the database. `db.budget(3)` refuses the fourth read or write and names the lines of the three before;
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
