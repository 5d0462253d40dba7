//! The chapter on policies and interceptors.

use nepheline::prelude::*;
use nepheline_coreshed::guarded::{Borehole, Site, Specimen, not_archived, own_agency};

use crate::support::chapter::Chapter;

#[test]
fn policies() {
    let mut chapter = Chapter::new(
        include_str!("policies.rs"),
        r#"
# Policies

A policy is a condition that applies wherever its table appears: tenant isolation, soft deletes, row-level visibility.
This chapter also covers interceptors, which run around every statement. The tables are those of the core shed with
policies: `crates/coreshed/src/guarded.rs`. A test writes this page. It runs each query on SQLite, PostgreSQL and MariaDB
and requires equal rows. Each entry shows the Rust code, PostgreSQL's SQL and the rows.

```rust
#[derive(Debug, Table)]
#[nepheline(policies(not_withdrawn, of_visible_borehole), retire(withdrawn_at))]
struct Specimen { /* .. */ }

// A policy is a function from the columns to a condition.
fn not_withdrawn(s: SpecimenColumns) -> Condition { s.withdrawn_at.is_null() }

// A policy can take a value that the handle carries, such as the tenant.
fn own_agency(s: SiteColumns, agency: &AgencyId) -> Condition { s.agency_id.eq(*agency) }

let db = db.carrying(AgencyId(1));       // a cheap handle, for one request
```

Policies fail closed. Without the value that a policy needs, every statement on the table is an error of kind
`MissingCarried`, and so is `query.sql(dialect)`. `query.sql_carrying(dialect, &carried)` shows the SQL, and
`sql.policies()` lists the policies of a statement, applied and waived, with the lines that asked for them.

Policies stand before the filters of a query. No engine promises to evaluate conditions in that order. If a filter fails
for some row, such as a sum that overflows, the row may be a hidden one. The error reveals none of the row's values.

Policies do not apply to tables that hand-written SQL names: a `verbatim!` with a table of its own reads all its rows.
Put a query into its `{}` instead. Policies also do not check inserted rows: look up the rows that they refer to first,
in the same transaction.
"#,
    );

    chapter.section("Policies apply wherever the table appears");
    ask!(
        &mut chapter,
        "In the query itself.",
        Site::rows()
            .order_by(|s| s.id.asc())
            .select(|s| (s.id, s.name, s.agency_id))
    );
    ask!(
        &mut chapter,
        "In subqueries and aggregates: withdrawn rows do not count.",
        Borehole::rows()
            .filter(|b| b.specimens().count().ge(10))
            .order_by(|b| b.id.asc())
            .select(|b| (b.name, b.specimens().count(), b.specimens().max(|s| s.base_m)))
    );
    ask!(
        &mut chapter,
        "In parents: a row whose required parent is hidden is hidden too.",
        Specimen::rows()
            .select(|s| (per(s.borehole().site().region), count()))
            .order_by(|s| per(s.borehole().site().region).asc())
    );
    ask!(
        &mut chapter,
        "In companions.",
        Site::rows().order_by(|s| s.id.asc()).alongside(|s| s
            .boreholes()
            .order_by(|b| b.id.asc())
            .limit(1)
            .select(|b| b.name))
    );

    chapter.section("Waivers");
    ask!(
        &mut chapter,
        "`waive` waives a policy for the rows of this query only.",
        Site::rows()
            .waive(not_archived)
            .order_by(|s| s.id.asc())
            .select(|s| (s.name, s.closed_on, s.boreholes().count()))
    );
    ask!(
        &mut chapter,
        "`waive_everywhere` waives it in subqueries, parents and companions too.",
        Site::rows()
            .waive_everywhere(not_archived)
            .order_by(|s| s.id.asc())
            .select(|s| (s.name, s.closed_on, s.boreholes().count()))
    );
    ask!(
        &mut chapter,
        "Waiving tenant isolation, in administration code. Every other policy still applies.",
        Site::rows()
            .waive_everywhere(own_agency)
            .select(|s| (per(s.agency_id), count()))
            .order_by(|s| per(s.agency_id).asc())
    );

    chapter.append(
        r#"
## Row-level security of PostgreSQL

PostgreSQL has row-level security of its own. `db.session_setting::<AgencyId>("core.agency")` copies the carried value into
a session setting at the begin of each transaction, so that a policy of the database can read
`nullif(current_setting('core.agency', true), '')`. The setting ends with the transaction. On such a handle, statements run
in transactions only.

## Interceptors

`db.intercepted_by(interceptor)` runs code around every statement. Before the statement it sees the tables, the operation,
the SQL, the binds, the line that asked for it, and whether there is a transaction; afterwards the number of rows, the time
and the error. It may refuse the statement, or answer in place of the database. Three interceptors are built in:
`db.budget(3)` refuses the fourth read or write and names the lines of the three before, `StatementLog` records statements,
and `Traced` (feature `tracing`) logs them with `tracing`, without values by default.

```rust
let db = db.carrying(TraceContext::of(header.parse()?));       // .. /*traceparent='00-0af7..-b7ad..-01'*/
```

With a `TraceContext` each statement ends in a comment with the `traceparent` of W3C Trace Context, so that the server's
log of statements leads back to the request. Only a well-formed `traceparent` is accepted. Each text then occurs once, so
the server parses every statement. SQLite, which has no log of statements, gets no comment.

Policies apply to writes too: see [Writes](writes.md).
"#,
    );
    chapter.finish("policies.md");
}
