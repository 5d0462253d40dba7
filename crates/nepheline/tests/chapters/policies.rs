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
`sql.policies()` lists the policies of a statement, applied, checked and waived, with the lines that asked for them.

Policies do not apply to tables that hand-written SQL names: a `verbatim!` with a table of its own reads all its rows.
Put a query into its `{}` instead, and let the handle require policies, as described below.
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

    chapter.section("Errors tell nothing");
    chapter.append(
        r#"
A filter can fail for some values: a sum overflows, a JSON document is malformed. No engine promises the order in which
it evaluates conditions, so a plain filter could fail for a hidden row, and tell something about it. Whatever can fail is
therefore written behind the policies: the engine computes it only for visible rows. Filters that cannot fail stay plain,
so that indexes serve them.
"#,
    );
    ask!(
        &mut chapter,
        "A filter that can fail.",
        Borehole::rows()
            .filter(|b| (b.id * 2).gt(10))
            .filter(|b| b.depth_m.gt(200))
            .order_by(|b| b.id.asc())
            .select(|b| (b.id, b.name))
    );
    chapter.append(
        r#"
MariaDB, MySQL and SQLite put constants in place of columns that other conditions fix, also inside CASE, so that the
policies stand in a subquery there: `CASE WHEN EXISTS (SELECT 1 FROM DUAL WHERE ..) THEN .. END`. A derived table of
visible rows whose columns such a filter reads gets a limit that it never reaches, because no engine moves a condition
past a limit. A condition of HAVING that can fail is tied to an aggregate, so that it stays in HAVING. The condition of a
left join that can fail, while a policy needs a table that is joined later, is refused.

A hidden row still shows in two ways: an insert with a key or a unique value that it has is refused
(`UniqueViolation`), and generated keys have gaps.
"#,
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
## Writes stay inside

Updates and deletes find visible rows only. What is written is checked too, in the same transaction:

- **References.** Each written reference must lead to a row that this handle sees under the policies of that table. A
  hidden row and a missing one are the same error, `ParentNotFound`, in the same words.
- **Rows.** A written row must satisfy those policies of its table that need a carried value, themselves or through the
  tables that they ask: tenant isolation. Otherwise the error is `PolicyViolation`. Policies about a state, such as
  `not_withdrawn`, are not checked, because closing and withdrawing rows is what updates are for.
  `#[nepheline(write_checks(own_agency))]` lists the checked policies explicitly.

| write | statements |
|---|---|
| the values themselves show that the policies hold, as a carried column does | one |
| an update of columns that matter to no policy | one, as without policies |
| new rows, or an update that sets a reference to a value | one more for each reference, however many rows: it reads which parents are visible, and locks them |
| an update that computes the column by an expression | the keys are read and locked first, and the stored rows are looked at afterwards |
| `insert_into` | the keys of the new rows are returned, and the rows are looked at afterwards |

A policy of the row that reads nothing but a reference, such as `of_visible_borehole`, is checked together with the
parent. The parents stay locked until the transaction ends, so that nobody moves them to another tenant meanwhile; for
this PostgreSQL wants the privilege UPDATE on their table. Long imports by `insert_stream` check each chunk. An upsert
that computes such a column is `Unsupported`. A failed check ends the transaction, as a violated constraint does.

```rust
db.write(&Specimen::row(7).update(|s| s.borehole_id.set(theirs)))?;                    // ParentNotFound
db.write(&Site::insert(handed_over).waive_check(own_agency))?;                           // in administration code
```

`waive_check` is apart from `waive`: the one is for rows that are written, the other for rows that are found.

## Handles that require policies

One forgotten table is enough for a leak: a second struct over it, a bridge table without policies, a fragment that
names it. A handle can require policies.

```rust
let db = db.policies_required::<AgencyId>();        // once, where the program opens the database
```

It and all handles made from it refuse each table without a policy that needs an `AgencyId`, its own or that of a table
which its policies ask (`PoliciesRequired`). Tables that everybody shares are marked `#[nepheline(open_to_all)]`. A
fragment must be declared to read only its arguments: `verbatim!("{} % 10", s.id).of_arguments_only()`. A plan tells how
many rows there are, hidden ones included, so `explain` takes `query.outside_policies()` there.

## Row-level security of PostgreSQL

PostgreSQL has row-level security of its own. `db.session_setting::<AgencyId>("core.agency")` copies the carried value into
a session setting at the begin of each transaction, so that a policy of the database can read
`nullif(current_setting('core.agency', true), '')`. The setting ends with the transaction. On such a handle, statements run
in transactions only.

## Interceptors

`db.intercepted_by(interceptor)` runs code around every statement. Before the statement it sees the tables, the operation,
the SQL, the binds, the line that asked for it, what the handle carries, and whether there is a transaction; afterwards
the number of rows, the time and the error. It may refuse the statement, or answer in place of the database. Three interceptors are built in:
`db.budget(3)` refuses the fourth read or write and names the lines of the three before, `StatementLog` records statements,
and `Traced` (feature `tracing`) logs them with `tracing`, without values by default.

```rust
let db = db.carrying(TraceContext::of(header.parse()?));       // .. /*traceparent='00-0af7..-b7ad..-01'*/
```

With a `TraceContext` each statement ends in a comment with the `traceparent` of W3C Trace Context, so that the server's
log of statements leads back to the request. Only a well-formed `traceparent` is accepted. Each text then occurs once, so
the server parses every statement. SQLite, which has no log of statements, gets no comment.

An interceptor can add writes: an audit trail, an outbox. `added_writes` sees each write of the program after it has
run: the table, the number of rows, the statements with the values that were bound, and what the handle carries. Values
that the database made are not among them. The added writes run in the same transaction (a lone write gets one), under
the same policies, and nothing is added to them. If one fails, all of it is undone. The example `service` keeps an audit
trail like this.
"#,
    );
    chapter.finish("policies.md");
}
