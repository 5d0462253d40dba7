//! The three engines, each with one connection for ours and one for the texts by hand.

use std::cell::RefCell;
use std::future::Future;

use mysql_async::prelude::Queryable as _;
use nepheline::blocking::RunsQueries as _;
use nepheline::{Dialect, Explainable, Readable, RunsQueries, blocking};
use tokio::runtime::Runtime;

use crate::cells::{self, IntoLine, Line};
use crate::ours::Asks;
use crate::{Engine, ours, world};

/// Reads the rows of a report.
struct Rows<'e, E>(&'e E);

/// Shows the plan of a report.
struct Plan<'e, E>(&'e E);

type Open = fn(&mut dyn FnMut(&dyn Engine));

pub(crate) const WITH_CUSTOM_PLANS: &str = "PostgreSQL, custom plans";

pub(crate) const ALL: [(&str, Open); 4] = [
    ("SQLite", sqlite),
    ("PostgreSQL", postgres),
    (WITH_CUSTOM_PLANS, postgres_with_custom_plans),
    ("MariaDB", mariadb),
];

/// The text with its placeholders: one for each key, or one for all.
pub(crate) fn with_list(text: &str, keys: &[i64], dialect: Dialect) -> String {
    let placeholder = |n: usize| match dialect {
        Dialect::Postgres => format!("${n}"),
        _ => "?".to_owned(),
    };
    let each: Vec<_> = (1..=keys.len()).map(placeholder).collect();
    text.replace("{each}", &each.join(", "))
        .replace("{all}", &placeholder(1))
}

fn as_json(keys: &[i64]) -> String {
    serde_json::to_string(keys).unwrap()
}

/// Takes one placeholder for each key, or one for all.
fn is_one_bind(text: &str) -> bool {
    text.contains("json_each") || text.contains("ANY(") || text.contains("JSON_TABLE")
}

struct Sqlite<'c> {
    session: blocking::Session<'c>,
    own: &'c rusqlite::Connection,
}

fn sqlite(run: &mut dyn FnMut(&dyn Engine)) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("reports.db");
    let db = blocking::Database::open(&format!("sqlite:{}?mode=rwc", path.display())).unwrap();
    world::make(&db);
    drop(db);
    // One connection for both, so that both find the same pages in its cache.
    let own = rusqlite::Connection::open(&path).unwrap();
    own.set_prepared_statement_cache_capacity(200);
    run(&Sqlite { session: blocking::Session::over(&own).unwrap(), own: &own });
}

impl Sqlite<'_> {
    fn lines<T>(&self, text: &str, keys: &[i64], line: impl Fn(&rusqlite::Row<'_>) -> T) -> Vec<T> {
        let mut prepared = self.own.prepare_cached(text).unwrap();
        let read = |row: &rusqlite::Row<'_>| Ok(line(row));
        let rows = if prepared.parameter_count() == 0 {
            prepared.query_map([], read)
        } else if is_one_bind(text) {
            prepared.query_map([as_json(keys)], read)
        } else {
            prepared.query_map(rusqlite::params_from_iter(keys), read)
        };
        rows.unwrap().collect::<Result<_, _>>().unwrap()
    }
}

impl Engine for Sqlite<'_> {
    fn dialect(&self) -> Dialect {
        Dialect::Sqlite
    }

    fn ours(&self, name: &str, form: usize) -> Option<Vec<Line>> {
        ours::ask(name, form, &Rows(self))
    }

    fn plan_of_ours(&self, name: &str, form: usize) -> Option<String> {
        ours::ask(name, form, &Plan(self))
    }

    fn by_hand(&self, text: &str, keys: &[i64]) -> Vec<Line> {
        self.lines(text, keys, cells::of_sqlite)
    }

    fn plan_by_hand(&self, text: &str, keys: &[i64]) -> String {
        let text = format!("EXPLAIN QUERY PLAN {text}");
        self.lines(&text, keys, |row| row.get::<_, String>(3).unwrap())
            .join("\n")
    }
}

impl Asks for Rows<'_, Sqlite<'_>> {
    type Answer = Vec<Line>;

    fn ask<Q: Readable<Row: IntoLine> + Explainable>(&self, query: &Q) -> Vec<Line> {
        let rows = self.0.session.read(query).unwrap();
        rows.into_iter().map(IntoLine::into_line).collect()
    }
}

impl Asks for Plan<'_, Sqlite<'_>> {
    type Answer = String;

    fn ask<Q: Readable<Row: IntoLine> + Explainable>(&self, query: &Q) -> String {
        self.0.session.explain(query).unwrap()
    }
}

/// A connection of a server that runs texts by hand.
trait ByHand {
    fn lines(&self, runtime: &Runtime, text: &str, keys: &[i64]) -> Vec<Line>;
    fn plan(&self, runtime: &Runtime, text: &str, keys: &[i64]) -> String;
}

struct Server<S, C> {
    runtime: Runtime,
    dialect: Dialect,
    session: S,
    own: C,
}

fn server(name: &str) -> (Runtime, String, blocking::Database) {
    let url = std::env::var(name).unwrap_or_else(|_| panic!("{name} names no database"));
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    let db = blocking::Database::open(&url).unwrap();
    world::make(&db);
    (runtime, url, db)
}

impl<S: RunsQueries, C> Asks for Rows<'_, Server<S, C>> {
    type Answer = Vec<Line>;

    fn ask<Q: Readable<Row: IntoLine> + Explainable>(&self, query: &Q) -> Vec<Line> {
        let rows = block(&self.0.runtime, self.0.session.read(query)).unwrap();
        rows.into_iter().map(IntoLine::into_line).collect()
    }
}

impl<S: RunsQueries, C> Asks for Plan<'_, Server<S, C>> {
    type Answer = String;

    fn ask<Q: Readable<Row: IntoLine> + Explainable>(&self, query: &Q) -> String {
        block(&self.0.runtime, self.0.session.explain(query)).unwrap()
    }
}

fn postgres(run: &mut dyn FnMut(&dyn Engine)) {
    on_postgres(false, run);
}

/// Ours with `plans=custom`, by hand as before.
fn postgres_with_custom_plans(run: &mut dyn FnMut(&dyn Engine)) {
    on_postgres(true, run);
}

fn on_postgres(with_custom_plans: bool, run: &mut dyn FnMut(&dyn Engine)) {
    let (runtime, url, db) = server("NEPHELINE_TEST_POSTGRES");
    scopeguard::defer! { nepheline_coreshed::drop_tables(&db) };
    let client = block(&runtime, connect(&url));
    let other = with_custom_plans.then(|| block(&runtime, connect(&url)));
    if let Some(other) = &other {
        // `plans=custom` sets the same on each connection of a pool.
        block(&runtime, other.batch_execute("SET plan_cache_mode = force_custom_plan")).unwrap();
    }
    // One connection for both where it can be: its server process has the same caches for them.
    let of_ours = other.as_ref().unwrap_or(&client);
    let session = block(&runtime, nepheline::postgres::Session::over(of_ours)).unwrap();
    run(&Server {
        runtime,
        dialect: Dialect::Postgres,
        session,
        own: Prepared { own: &client, texts: RefCell::default() },
    });
}

async fn connect(url: &str) -> tokio_postgres::Client {
    let (client, connection) = tokio_postgres::connect(url, tokio_postgres::NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    client
}

/// A connection with its prepared statements.
struct Prepared<'c> {
    own: &'c tokio_postgres::Client,
    texts: RefCell<std::collections::HashMap<String, tokio_postgres::Statement>>,
}

impl Prepared<'_> {
    fn rows(&self, runtime: &Runtime, text: &str, keys: &[i64]) -> Vec<tokio_postgres::Row> {
        let Prepared { own, texts } = self;
        block(runtime, async {
            let known = texts.borrow().get(text).cloned();
            let prepared = match known {
                Some(prepared) => prepared,
                None => {
                    let prepared = own.prepare(text).await.unwrap();
                    texts.borrow_mut().insert(text.to_owned(), prepared.clone());
                    prepared
                }
            };
            let rows = if prepared.params().is_empty() {
                own.query(&prepared, &[]).await
            } else if is_one_bind(text) {
                own.query(&prepared, &[&keys]).await
            } else {
                let each: Vec<_> = keys
                    .iter()
                    .map(|key| key as &(dyn tokio_postgres::types::ToSql + Sync))
                    .collect();
                own.query(&prepared, &each).await
            };
            rows.unwrap()
        })
    }
}

impl<S: RunsQueries, C: ByHand> Engine for Server<S, C> {
    fn dialect(&self) -> Dialect {
        self.dialect
    }

    fn ours(&self, name: &str, form: usize) -> Option<Vec<Line>> {
        ours::ask(name, form, &Rows(self))
    }

    fn plan_of_ours(&self, name: &str, form: usize) -> Option<String> {
        ours::ask(name, form, &Plan(self))
    }

    fn by_hand(&self, text: &str, keys: &[i64]) -> Vec<Line> {
        self.own.lines(&self.runtime, text, keys)
    }

    fn plan_by_hand(&self, text: &str, keys: &[i64]) -> String {
        self.own.plan(&self.runtime, text, keys)
    }
}

impl ByHand for Prepared<'_> {
    fn lines(&self, runtime: &Runtime, text: &str, keys: &[i64]) -> Vec<Line> {
        let rows = self.rows(runtime, text, keys);
        rows.iter().map(cells::of_postgres).collect()
    }

    fn plan(&self, runtime: &Runtime, text: &str, keys: &[i64]) -> String {
        let rows = self.rows(runtime, &format!("EXPLAIN {text}"), keys);
        let lines: Vec<_> = rows.iter().map(|row| row.get::<_, String>(0)).collect();
        lines.join("\n")
    }
}

fn mariadb(run: &mut dyn FnMut(&dyn Engine)) {
    let (runtime, url, db) = server("NEPHELINE_TEST_MARIADB");
    scopeguard::defer! { nepheline_coreshed::drop_tables(&db) };
    let connect = || {
        let options = mysql_async::Opts::from_url(&url).unwrap();
        let options = mysql_async::OptsBuilder::from_opts(options)
            .prefer_socket(false)
            .stmt_cache_size(200);
        block(&runtime, mysql_async::Conn::new(options)).unwrap()
    };
    let (conn, own) = (connect(), connect());
    let session = block(&runtime, nepheline::mysql::Session::over(conn)).unwrap();
    run(&Server { runtime, dialect: Dialect::MariaDb, session, own: tokio::sync::Mutex::new(own) });
}

impl ByHand for tokio::sync::Mutex<mysql_async::Conn> {
    fn lines(&self, runtime: &Runtime, text: &str, keys: &[i64]) -> Vec<Line> {
        let rows = block(runtime, mariadb_rows(self, text, keys));
        rows.into_iter().map(cells::of_mariadb).collect()
    }

    fn plan(&self, runtime: &Runtime, text: &str, keys: &[i64]) -> String {
        let text = format!("EXPLAIN FORMAT=JSON {text}");
        let rows = block(runtime, mariadb_rows(self, &text, keys));
        rows.into_iter()
            .map(mysql_async::from_row::<String>)
            .collect()
    }
}

async fn mariadb_rows(
    own: &tokio::sync::Mutex<mysql_async::Conn>,
    text: &str,
    keys: &[i64],
) -> Vec<mysql_async::Row> {
    let binds: Vec<mysql_async::Value> = match is_one_bind(text) {
        true => vec![as_json(keys).into()],
        false => keys.iter().map(|key| (*key).into()).collect(),
    };
    let params = match binds {
        binds if binds.is_empty() => mysql_async::Params::Empty,
        binds => mysql_async::Params::Positional(binds),
    };
    own.lock().await.exec(text, params).await.unwrap()
}

fn block<T>(runtime: &Runtime, future: impl Future<Output = T>) -> T {
    runtime.block_on(future)
}
