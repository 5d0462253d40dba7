//! A service over HTTP for several agencies: who is asking comes from a header, and policies do the rest.
//!
//! `cargo run -p nepheline --all-features --example service` starts it on demo data, asks it a few things, and
//! ends; with an address, as in `-- 127.0.0.1:8080`, it serves there until it is stopped:
//! `curl -GH 'agency: 1' --data-urlencode "filter=rock = 'basalt' AND depth > 100" http://127.0.0.1:8080/specimens`.
#![allow(clippy::print_stdout, missing_docs, reason = "an example")]

use std::time::Duration;

use axum::body::Body;
use axum::extract::{FromRequestParts, Path, Query as Parameters, State};
use axum::http::StatusCode;
use axum::http::request::Parts;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Extension, Json, Router};
use futures_util::StreamExt;
use nepheline::prelude::{Json as AnyJson, *};
use nepheline::{
    AddedWrite, ChangeValues, CompletedWrite, Database, Interceptor, Offer, Offered, Page, Paging,
    RunsQueries, blocking, call, script, statement,
};
use nepheline_coreshed::Rock;
use nepheline_coreshed::guarded::{
    AgencyId, Assay, AuditEntry, AuditEntryToInsert, Site, Specimen, SpecimenChanges,
    SpecimenToInsert, not_archived, not_withdrawn,
};
use serde::Deserialize;
use serde_json::json;

/// The most statements of a request, and the time limit of each call of the database.
const STATEMENTS: usize = 3;
const LONGEST: Duration = Duration::from_secs(2);

/// The service on a database.
///
/// # Errors
///
/// None, since the names of its offer are fixed.
pub fn service(db: Database) -> Result<Router, Error> {
    // Every table that a handler reads or writes is under a policy that needs the agency, or it is refused.
    let db = db.policies_required::<AgencyId>().intercepted_by(Audit);
    let service = Router::new()
        .route("/specimens", get(page).post(add))
        .route("/specimens/parameters", get(parameters))
        .route("/specimens/{id}", get(show).patch(change).delete(withdraw))
        .route("/specimens.csv", get(csv))
        .route("/specimens/{id}/restore", post(restore))
        .route("/sites/{id}/closing", post(close))
        .route("/report", get(report))
        .route("/audit", get(audit))
        .route("/pool", get(pool))
        .layer(Extension(offer()?))
        .with_state(db);
    Ok(service)
}

/// The audit trail: an entry for each write, committed together with it.
struct Audit;

impl Interceptor for Audit {
    fn adds_writes(&self) -> bool {
        true
    }

    fn added_writes(&self, write: &CompletedWrite<'_>) -> Vec<AddedWrite> {
        let Some(last) = write.statements().last().filter(|_| write.rows() > 0) else {
            return Vec::new();
        };
        let entry = AuditEntryToInsert {
            entity: write.table().to_owned(),
            operation: last.operation().to_string(),
            changed: i64::try_from(write.rows()).unwrap_or(i64::MAX),
        };
        vec![AuditEntry::insert(entry).into()]
    }
}

/// The database as one agency sees it, for one request.
struct ForAgency(Database, Option<AgencyId>);

impl FromRequestParts<Database> for ForAgency {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, db: &Database) -> Result<ForAgency, Problem> {
        let agency = parts
            .headers
            .get("agency")
            .and_then(|value| value.to_str().ok()?.parse().ok())
            .map(AgencyId);
        // A request that does not say who asks gets a handle that carries nobody: it is refused by the
        // first policy that needs to know.
        let db = db.budget(STATEMENTS).time_limit(LONGEST);
        let db = match agency {
            Some(agency) => db.carrying(agency),
            None => db,
        };
        Ok(ForAgency(db, agency))
    }
}

impl ForAgency {
    /// The agency, for SQL that stands outside the policies and has to compare it itself.
    fn agency(&self) -> Result<AgencyId, Problem> {
        self.1
            .ok_or_else(|| Problem(StatusCode::UNAUTHORIZED, ANONYMOUS.into()))
    }
}

const ANONYMOUS: &str = "say who asks in the header `agency`";

/// The names that a request may use in its filter, its sort and its list of properties. Policies hold below each of them.
fn offer() -> Result<Offer<Specimen>, Error> {
    let assays = Offer::of::<Assay>()
        .value("element", |a| a.element)
        .value("ppm", |a| a.ppm)
        .build()?;
    Offer::of::<Specimen>()
        .value("id", |s| s.id)
        .value("label", |s| s.label)
        .value("rock", |s| s.rock)
        .value(Offered::name("depth").described("metres down the hole"), |s| s.top_m)
        .value("taken", |s| s.taken_on)
        .value("borehole", |s| s.borehole().name)
        .value("region", |s| s.borehole().site().region)
        .value("results", |s| s.assays().count())
        .children("assays", |s| s.assays(), &assays)
        .build()
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Wanted {
    filter: Option<String>,
    #[serde(rename = "filter-lang")]
    filter_lang: Option<String>,
    sortby: Option<String>,
    properties: Option<String>,
    limit: Option<u64>,
    page: Option<u64>,
}

async fn page(
    ForAgency(db, _): ForAgency,
    Extension(offer): Extension<Offer<Specimen>>,
    Parameters(wanted): Parameters<Wanted>,
) -> Result<Response, Problem> {
    let filter = wanted
        .filter
        .as_deref()
        .map(|text| match wanted.filter_lang.as_deref() {
            Some("cql2-json") => offer.cql2_json(text).map_err(Problem::from),
            Some("cql2-text") | None => offer.cql2_text(text).map_err(Problem::from),
            Some(_) => {
                let known = "filter-lang is cql2-text or cql2-json";
                Err(Problem(StatusCode::BAD_REQUEST, known.into()))
            }
        });
    let filter = filter.transpose()?;
    let sort = offer.sort_by(wanted.sortby.as_deref().unwrap_or("depth,label"))?;
    let query = Specimen::rows()
        .filter(|s| filter.map(|filter| filter.scope()(s)))
        .order_by(sort.orders());
    let limit = wanted.limit.unwrap_or(20).min(100);
    let paging = Paging::page_size(limit).page(wanted.page.unwrap_or(1));
    Ok(match wanted.properties {
        None => shown(db.read_page(&query, paging).await?),
        Some(names) => {
            let rows = offer.properties(&names)?.rows_of(query);
            shown(db.read_page(&rows, paging).await?)
        }
    })
}

/// A page in the answer.
#[derive(Debug, serde::Serialize)]
struct Shown<R> {
    page: u64,
    pages: u64,
    specimens: u64,
    rows: Vec<R>,
}

fn shown<R: serde::Serialize>(page: Page<R>) -> Response {
    let (number, pages, specimens) = (page.number(), page.total_pages(), page.total_rows());
    Json(Shown { page: number, pages, specimens, rows: page.into_rows() }).into_response()
}

/// The names and types for filters, as JSON Schema.
async fn parameters(Extension(offer): Extension<Offer<Specimen>>) -> Json<AnyJson> {
    Json(offer.json_schema())
}

async fn show(ForAgency(db, _): ForAgency, Path(id): Path<i64>) -> Result<Json<Specimen>, Problem> {
    Ok(Json(db.read_one(&Specimen::row(id)).await?))
}

#[derive(Debug, Deserialize)]
struct NewSpecimen {
    borehole_id: i64,
    label: String,
    rock: String,
    top_m: f64,
    base_m: f64,
    taken_on: Date,
}

async fn add(
    ForAgency(db, _): ForAgency,
    Json(new): Json<NewSpecimen>,
) -> Result<(StatusCode, Json<Specimen>), Problem> {
    let NewSpecimen { borehole_id, label, rock: name, top_m, base_m, taken_on } = new;
    let rock = rock(&name)?;
    let new =
        SpecimenToInsert { borehole_id, label, rock, top_m, base_m, taken_on, withdrawn_at: None };
    let stored = db
        .transaction(async |tx| {
            // A borehole of another agency is refused like one that does not exist.
            let stored = tx.write_returning_one(&Specimen::insert(new)).await?;
            // Nobody hears of a specimen that was not stored after all.
            let label = stored.label.clone();
            tx.after_commit(move || println!("stored {label}"));
            Ok::<_, Error>(stored)
        })
        .await?;
    Ok((StatusCode::CREATED, Json(stored)))
}

/// Changes what the body names. It cannot name the key, the borehole's agency, or the mark of a withdrawn specimen.
async fn change(
    ForAgency(db, _): ForAgency,
    Path(id): Path<i64>,
    Json(changes): Json<SpecimenChanges>,
) -> Result<Json<Specimen>, Problem> {
    if !changes.is_empty() {
        db.write(&Specimen::row(id).update_with(changes)).await?;
    }
    Ok(Json(db.read_one(&Specimen::row(id)).await?))
}

/// All specimens of the agency as CSV, in constant memory.
async fn csv(ForAgency(db, _): ForAgency) -> Result<Response, Problem> {
    // Without the agency the statement is refused now, and not when half of the answer is sent.
    db.exists(&Specimen::rows()).await?;
    let rows = Specimen::rows().order_by(|s| s.id.asc());
    let lines = db
        .into_stream(rows)
        .map(|row| csv_line(row.map_err(std::io::Error::other)?));
    let header = futures_util::stream::iter([csv::Result::Ok(
        "label,rock,top_m,base_m,taken_on\n".to_owned(),
    )]);
    let kind = [("content-type", "text/csv; charset=utf-8")];
    Ok((kind, Body::from_stream(header.chain(lines))).into_response())
}

fn csv_line(row: Specimen) -> csv::Result<String> {
    let mut writer = csv::WriterBuilder::new()
        .terminator(csv::Terminator::Any(b'\n'))
        .from_writer(Vec::new());
    let Specimen { label, rock, top_m, base_m, taken_on, .. } = row;
    writer.serialize((label, rock, top_m, base_m, taken_on.to_string()))?;
    let line = writer.into_inner().map_err(|err| err.into_error())?;
    Ok(String::from_utf8_lossy(&line).into_owned())
}

async fn withdraw(ForAgency(db, _): ForAgency, Path(id): Path<i64>) -> Result<StatusCode, Problem> {
    match db.write(&Specimen::row(id).delete()).await? {
        0 => Err(Problem(StatusCode::NOT_FOUND, "there is no such specimen".into())),
        _ => Ok(StatusCode::NO_CONTENT),
    }
}

async fn restore(
    ForAgency(db, _): ForAgency,
    Path(id): Path<i64>,
) -> Result<Json<Specimen>, Problem> {
    let withdrawn = Specimen::row(id)
        .waive(not_withdrawn)
        .filter(|s| s.withdrawn_at.is_not_null());
    match db
        .write(&withdrawn.update(|s| s.withdrawn_at.set_null()))
        .await?
    {
        0 => Err(Problem(StatusCode::NOT_FOUND, "there is no such withdrawn specimen".into())),
        _ => Ok(Json(db.read_one(&Specimen::row(id)).await?)),
    }
}

/// The drilling at a site, in numbers.
#[derive(Debug, RowShape, serde::Serialize)]
struct Drilled {
    site: String,
    boreholes: i64,
    metres: Option<f64>,
    deepest: Option<String>,
}

/// A report that somebody wrote in SQL. Policies do not reach into it, so it compares the agency itself.
async fn report(agency: ForAgency) -> Result<Json<Vec<Drilled>>, Problem> {
    let of = agency.agency()?;
    let report = statement!(
        "SELECT s.name AS site, count(b.id) AS boreholes, sum(b.depth_m) AS metres,
             (SELECT d.name FROM borehole d WHERE d.site_id = s.id ORDER BY d.depth_m DESC LIMIT 1) AS deepest
         FROM site s LEFT JOIN borehole b ON b.site_id = s.id
         WHERE s.agency_id = {of} AND s.closed_on IS NULL
         GROUP BY s.id, s.name ORDER BY s.name"
    );
    let report = report.outside_policies().rows_as::<Drilled>();
    Ok(Json(agency.0.read(&report).await?))
}

#[derive(Debug, Deserialize)]
struct Closing {
    /// The day, or nothing to open the site again.
    on: Option<Date>,
}

/// Closes a site, by the procedure that every program of the house calls; SQLite has none.
async fn close(
    agency: ForAgency,
    Path(id): Path<i64>,
    Json(Closing { on }): Json<Closing>,
) -> Result<StatusCode, Problem> {
    let (of, db) = (agency.agency()?, &agency.0);
    let changed = match db.dialect() {
        Dialect::Sqlite => {
            let site = Site::row(id).waive(not_archived);
            db.write(&site.update(|s| s.closed_on.set_maybe(on)))
                .await?
                > 0
        }
        _ => {
            let closing = call!("close_site"(of, id, on)).outside_policies();
            let (changed,) = db.call(&closing.out::<(i64,)>()).await?;
            changed > 0
        }
    };
    match changed {
        false => Err(Problem(StatusCode::NOT_FOUND, "there is no such site".into())),
        true => Ok(StatusCode::NO_CONTENT),
    }
}

/// The procedures of the service, where the engine has them.
async fn install(db: &Database) -> Result<(), Error> {
    match db.dialect() {
        Dialect::Postgres => db.run_script(&script!(file "service/postgres.sql")).await,
        Dialect::MariaDb => db.run_script(&script!(file "service/mariadb.sql")).await,
        _ => Ok(()),
    }
}

/// The last entries of the agency's audit trail.
async fn audit(ForAgency(db, _): ForAgency) -> Result<Json<AnyJson>, Problem> {
    let last = AuditEntry::rows().order_by(|a| a.id.desc()).limit(20);
    let last = last.select(|a| (a.entity, a.operation, a.changed));
    Ok(Json(json!(db.read(&last).await?)))
}

/// The state of the pool of connections, for whoever runs the service.
async fn pool(State(db): State<Database>) -> Json<AnyJson> {
    let pool = db.pool_metrics();
    Json(json!({
        "connections": pool.connections,
        "idle": pool.idle,
        "waiting": pool.waiting,
        "waits_timed_out": pool.waits_timed_out,
        "opened": pool.opened,
        "closed": pool.closed.total(),
    }))
}

fn rock(name: &str) -> Result<Rock, Problem> {
    let rock = Rock::from_cell(nepheline::Cell::Text(name));
    rock.map_err(|expected| {
        let message = format!("`{name}` is no rock: expected {}", expected.as_str());
        Problem(StatusCode::UNPROCESSABLE_ENTITY, message.into())
    })
}

/// The errors as clients see them, as text or JSON: never with SQL.
#[derive(Debug)]
struct Problem(StatusCode, AnyJson);

impl From<Error> for Problem {
    fn from(err: Error) -> Problem {
        use ErrorKind as Kind;
        // A mistake in the request's own text names nothing but what is offered.
        if let Some(mistake) = err.mistake() {
            let message = json!({ "mistake": mistake, "marked": mistake.marked() });
            return Problem(StatusCode::BAD_REQUEST, message);
        }
        let (status, message) = match err.kind() {
            Kind::MissingCarried => (StatusCode::UNAUTHORIZED, ANONYMOUS),
            Kind::NotFound => (StatusCode::NOT_FOUND, "there is no such row"),
            Kind::UniqueViolation => (StatusCode::CONFLICT, "another row has this label"),
            Kind::StaleVersion | Kind::Conflict => {
                (StatusCode::CONFLICT, "somebody else was faster")
            }
            Kind::ParentNotFound => {
                (StatusCode::UNPROCESSABLE_ENTITY, "it refers to a row that does not exist")
            }
            Kind::CheckViolation
            | Kind::ForeignKeyViolation
            | Kind::StillReferenced
            | Kind::PolicyViolation
            | Kind::NotNullViolation
            | Kind::RefusedValue => {
                (StatusCode::UNPROCESSABLE_ENTITY, "the row cannot be like this")
            }
            Kind::InvalidPage => (StatusCode::BAD_REQUEST, "there can be no such page"),
            Kind::Locked | Kind::PoolExhausted | Kind::StatementTimeout | Kind::ConnectionLost => {
                (StatusCode::SERVICE_UNAVAILABLE, "try again later")
            }
            Kind::TransactionResolutionUnknown => (
                StatusCode::SERVICE_UNAVAILABLE,
                "it may have been done; look before you try again",
            ),
            // Whoever runs the service reads the details; whoever asks does not.
            _ => {
                println!("failed: {err:#}");
                (StatusCode::INTERNAL_SERVER_ERROR, "something went wrong")
            }
        };
        Problem(status, message.into())
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        (self.0, Json(json!({ "problem": self.1 }))).into_response()
    }
}

/// A service on demo data in a file, and where it listens.
pub async fn start(url: &str, address: &str) -> anyhow::Result<std::net::SocketAddr> {
    let loaded = url.to_owned();
    tokio::task::spawn_blocking(move || {
        nepheline_coreshed::load(&blocking::Database::open(&loaded)?)
    })
    .await??;
    let listener = tokio::net::TcpListener::bind(address).await?;
    let address = listener.local_addr()?;
    let db = Database::open(url).await?;
    install(&db).await?;
    let service = service(db)?;
    tokio::spawn(async move { axum::serve(listener, service).await });
    Ok(address)
}

/// Returns the path of a list of specimens.
fn specimens(parameters: &[(&str, &str)]) -> String {
    let mut query = url::form_urlencoded::Serializer::new(String::new());
    format!("/specimens?{}", query.extend_pairs(parameters).finish())
}

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    let folder = tempfile::tempdir()?;
    let url = format!("sqlite:{}?mode=rwc", folder.path().join("core.db").display());
    if let Some(address) = std::env::args().nth(1) {
        println!("serving at http://{}", start(&url, &address).await?);
        std::future::pending::<()>().await;
    }
    let address = start(&url, "127.0.0.1:0").await?;
    tokio::task::spawn_blocking(move || {
        for (agency, path) in [
            ("1", specimens(&[("filter", "rock = 'basalt' AND depth > 300"), ("limit", "2")])),
            ("2", specimens(&[("filter", "rock = 'basalt' AND depth > 300"), ("limit", "2")])),
            (
                "1",
                specimens(&[
                    ("filter", "assays.ppm > 900"),
                    ("properties", "label,region,results"),
                    ("sortby", "-results,label"),
                    ("limit", "3"),
                ]),
            ),
            ("1", specimens(&[("filter", "dept > 300")])),
            ("1", "/specimens/1".to_owned()),
            ("nobody", "/specimens/1".to_owned()),
            ("1", specimens(&[("page", "0")])),
            ("1", "/report".to_owned()),
            ("1", "/audit".to_owned()),
            ("1", "/pool".to_owned()),
        ] {
            let asked = ureq::get(format!("http://{address}{path}")).header("agency", agency);
            let mut answer = asked.config().http_status_as_error(false).build().call()?;
            let body = answer.body_mut().read_to_string()?;
            println!("{agency} asks {path}\n  {}: {body}", answer.status());
        }
        Ok(())
    })
    .await?
}
