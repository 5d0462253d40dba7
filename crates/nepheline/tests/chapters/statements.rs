//! The chapter on hand-written SQL.

use nepheline::prelude::*;
use nepheline::{from_statement, statement};
use nepheline_coreshed::{Borehole, Lab};

use crate::support::chapter::Chapter;

#[derive(Debug, Clone, PartialEq, RowShape)]
struct DepthReport {
    #[nepheline(by_code_point)]
    borehole: String,
    metres: Option<f64>,
}

#[test]
fn statements() {
    let mut chapter = Chapter::new(
        include_str!("statements.rs"),
        r#"
# Hand-written SQL

The typed language ends somewhere: at a function of your own, a clause that only one engine has, a report that somebody
has written already. There are four ways out, and each comes back to typed rows.

| you need | use |
|---|---|
| an expression inside a typed query | `verbatim!("{} % 10", s.id).typed::<i64>()`, see `Verbatim` |
| a whole statement | `statement!("..")`, with `.rows_as::<R>()` where it returns rows |
| a function or procedure of the database | `call!("name"(arguments))` |
| several statements without values, such as a schema | `script!("..")` or `script!(file "schema.sql")`, with `db.run_script(&script)` |

The text is always a literal of the program. `{}`, `{0}` and `{name}` are values or expressions; a value is only ever a
bind. `statement!(sqlite: "..", postgres: "..", mysql: "..")` has a text for each dialect. A test writes this page. It runs
each statement on SQLite, PostgreSQL and MariaDB and requires equal rows.

```rust
#[derive(Debug, RowShape)]
struct DepthReport { borehole: String, metres: Option<f64> }
```
"#,
    );

    chapter.section("Statements with rows");
    let site = 1_i64;
    ask!(
        &mut chapter,
        "The columns of a struct are found by their names, in any order.",
        statement!(
            "SELECT max(s.base_m) AS metres, b.name AS borehole
             FROM borehole b JOIN specimen s ON s.borehole_id = b.id
             WHERE b.site_id = {site} GROUP BY b.id, b.name ORDER BY b.name"
        )
        .rows_as::<DepthReport>()
    );
    ask!(
        &mut chapter,
        "A tuple takes the columns from left to right.",
        statement!("SELECT id, name FROM borehole WHERE depth_m > {} ORDER BY id", 600.0)
            .rows_as::<(i64, String)>()
    );
    ask!(
        &mut chapter,
        "A statement can be the table of a typed query.",
        from_statement(
            statement!(
                "SELECT name AS borehole, depth_m AS metres FROM borehole WHERE site_id = {site}"
            )
            .rows_as::<DepthReport>()
        )
        .filter(|d| d.metres.gt(300))
        .order_by(|d| d.borehole.asc())
    );
    ask!(
        &mut chapter,
        "Several structs come out of one row: `columns of` writes their columns, with the alias in each name. `Option` is \
         `None` where the join found nothing.",
        statement!(
            "SELECT {columns of Lab as l}, {columns of Borehole as b} FROM lab l
             LEFT JOIN borehole b ON b.id = l.id + 1000 WHERE l.id <= {} ORDER BY l.id",
            3_i64
        )
        .rows_as::<(Lab, Option<Borehole>)>()
    );
    ask!(
        &mut chapter,
        "The rows of a table struct have companions, as those of a query have.",
        statement!("SELECT * FROM borehole WHERE site_id = {site} ORDER BY id")
            .rows_as::<Borehole>()
            .alongside(|b| b.specimens().order_by(|s| s.top_m.asc()).limit(1))
            .map_rows(|(borehole, specimens)| (borehole.name, specimens.len()))
    );
    chapter.append(
        r#"
A column that is missing, there twice or not asked for is an error of kind `Mismatch` before the first row. It lists
what arrived and what was wanted. `ignoring_other_columns()` accepts columns without a field. A struct in a tuple takes its
columns in order, and their names are checked. Each value is checked as in typed queries.

All reading verbs read such rows: `read_one`, `count`, streams, pages. A page appends `LIMIT` and `OFFSET` to the text,
and `count` puts the text into a subquery, so the text must not end in a limit of its own.

## Statements that write

```rust
let changed: u64 = db.write(&statement!("UPDATE specimen SET top_m = top_m + {metres} WHERE borehole_id = {id}")).await?;
let gone = db.write_returning(&statement!("DELETE FROM tray WHERE id < {id} RETURNING id, grams").rows_as::<Tray>()).await?;
```

They run on every handle, also in transactions, under the same interceptors, budgets, logs and time limits. A statement
that begins or ends a transaction does not compile, and is refused if it was made at run time. In a transaction on MariaDB
and MySQL a change of the schema is refused, because these engines would commit first. A statement counts as a read if
it begins like one (`SELECT`, `WITH`, `VALUES`, `SHOW` ..); `.writing()` and `.reading()` say otherwise.

## Scripts

```rust
db.run_script(&script!(file "schema.sql")).await?;
```

The statements of a script end at semicolons outside of quotes, comments, dollar quotes and the bodies of functions,
procedures and triggers. On SQLite and PostgreSQL the script runs in one transaction. MariaDB and MySQL commit each change
of the schema, so the statements before a failed one stay. An error names the number of the statement and its line.

Numbered scripts make a small migration tool. A table remembers which have run:

```rust
let scripts = [(1, script!(file "001_trays.sql")), (2, script!(file "002_lids.sql"))];

db.run_script(&script!("CREATE TABLE IF NOT EXISTS applied_script (number BIGINT PRIMARY KEY)"))?;
let applied: Vec<i64> = db.read(&AppliedScript::rows().select(|a| a.number))?;
for (number, script) in scripts.iter().filter(|(number, _)| !applied.contains(number)) {
    db.transaction(|tx| {
        tx.run_script(script)?;
        tx.write(&AppliedScript::insert(AppliedScriptToInsert { number: *number }))
    })?;
}
```

On MariaDB the script and the row cannot be one transaction; run the script first, and write scripts that may run again.
A migration crate of your choice works as well: it runs over a connection of its own before the program opens its
`Database`.

## Functions and procedures

```rust
// A function that returns one value is an expression.
let deep = Specimen::rows().filter(|s| call!("in_feet"(s.top_m)).typed::<f64>().gt(1000));
// A function that returns rows is a table; policies of the struct apply, and it can be joined to columns before it.
let near = Specimen::rows_from(call!("specimens_near"(x, y, 500.0))).filter(|s| s.analyst_id.is_null());
let spans = Borehole::rows().join(|b| Span::rows_from(call!("span_of"(b.id))));
// A procedure: its OUT and INOUT parameters, and its result sets in order.
let (closed,) = db.call(&call!("close_site"(site, day)).out::<(i64,)>()).await?;
let tally: Tally = db.call(&call!("tally"(site, _, inout metres)).out::<Tally>()).await?;
let (specimens, totals) = db.call(&call!("site_report"(site)).result_sets::<(Specimen, Total)>()).await?;
// A function that returns a cursor is read in chunks, in a transaction, and the cursor is closed whatever happens.
let assays: Vec<Assay> = db.call(&call!("open_assays"(site)).cursor_as::<Assay>()).await?;
```

| | SQLite | PostgreSQL | MariaDB, MySQL |
|---|---|---|---|
| a value | functions that `Options::sqlite_setup` registers | yes | stored functions |
| rows | table-valued functions, such as `json_each` | yes | no |
| procedures, OUT and INOUT | no | yes | yes |
| result sets | no | no | yes |
| cursors | no | yes | no |

An engine refuses by name what it lacks. The name of a routine is quoted, `"schema.name"` has two parts. An argument has the
type of its Rust type, also in `verbatim!` and `statement!`: an `i32` is an `integer` and finds a function of one. OUT
parameters follow the others; where they are mixed, `_` stands for one, and `inout value` for an INOUT parameter.

In a transaction, the state is looked at after a procedure. If it has committed, as MariaDB and MySQL allow, what follows is
`TransactionEnded`. PostgreSQL refuses a COMMIT there itself.

## A schema for each tenant

```rust
let tenant = db.in_schema("tenant_7")?;
let specimens = tenant.read(&Specimen::rows()).await?;         // FROM "tenant_7"."specimen"
let count = tenant.read_one(&statement!("SELECT count(*) FROM {schema}.specimen").rows_as::<i64>()).await?;
```

Tables that name no schema themselves are in that of the handle. Hand-written SQL finds names there through PostgreSQL's search
path; on the other engines it must write `{schema}`, or is refused. `schema = value` passes a value of that name instead.

## Notifications

```rust
let mut measured = db.listen::<i64>("measured").await?;
db.write(&statement!("SELECT pg_notify('measured', {})", "7").writing()).await?;
while let Some(notification) = measured.next().await {
    match notification? {
        Notification::Arrived(specimen) => refresh(specimen),
        Notification::Reconnected => refresh_all(),               // some were missed
        _ => {}
    }
}
```

PostgreSQL only. The stream has a connection of its own; a payload that is no `i64` is an error, and the stream goes on.

## What is not checked

Policies do not apply to tables that the text names, and nothing checks that the text means the same on each engine. A
handle with `policies_required` refuses statements, scripts and calls, unless `.outside_policies()` says that it is intended.
"#,
    );
    chapter.finish("hand-written-sql.md");
}
