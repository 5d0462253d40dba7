//! That nobody learns of rows that policies hide: queries of every kind are generated and asked of a
//! database that holds such rows, and again, with every policy waived, when they have been deleted. Both
//! answers have to be equal, to the last total and the last page.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use std::collections::BTreeSet;
use std::fmt::{Debug, Write as _};
use std::sync::{Mutex, MutexGuard, PoisonError};

use nepheline::blocking::{Database, Handle};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{BindValue, Paging, Readable, recursive};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;
use support::{Engine, engines};

#[derive(Debug, Clone, Copy, PartialEq)]
struct AgencyId(i64);

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    table = "guard_site",
    children(boreholes: Borehole by site_id),
    policies(own_agency, not_closed),
)]
struct Site {
    #[nepheline(key)]
    id: i64,
    agency_id: i64,
    #[nepheline(by_code_point)]
    region: String,
    closed_on: Option<Date>,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    table = "guard_borehole",
    children(specimens: Specimen by borehole_id),
    policies(of_site),
)]
struct Borehole {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Site)]
    site_id: i64,
    depth_m: f64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "guard_analyst", policies(colleague))]
struct Analyst {
    #[nepheline(key)]
    id: i64,
    agency_id: i64,
    #[nepheline(by_code_point)]
    name: String,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(
    table = "guard_specimen",
    children(assays: Assay by specimen_id, parts: Specimen by parent_id),
    linked(tags: Tag via Tagged),
    policies(not_withdrawn, of_borehole),
)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    #[nepheline(unique, by_code_point)]
    label: String,
    #[nepheline(references = Borehole)]
    borehole_id: i64,
    #[nepheline(references = Analyst)]
    analyst_id: Option<i64>,
    #[nepheline(references = Specimen)]
    parent_id: Option<i64>,
    grams: i64,
    withdrawn_at: Option<Timestamp>,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "guard_assay", policies(of_specimen))]
struct Assay {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Specimen)]
    specimen_id: i64,
    #[nepheline(by_code_point)]
    element: String,
    ppm: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "guard_tag", linked(specimens: Specimen via Tagged))]
struct Tag {
    #[nepheline(key)]
    id: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "guard_tagged")]
struct Tagged {
    #[nepheline(key, references = Specimen)]
    specimen_id: i64,
    #[nepheline(key, references = Tag)]
    tag_id: i64,
}

fn own_agency(s: SiteColumns, agency: &AgencyId) -> Condition {
    s.agency_id.eq(agency.0)
}

fn not_closed(s: SiteColumns) -> Condition {
    s.closed_on.is_null()
}

/// Of a site that may be seen: the policies of sites hold inside.
fn of_site(b: BoreholeColumns) -> Condition {
    Site::rows().filter(|s| s.id.eq(b.site_id)).exists()
}

fn colleague(a: AnalystColumns, agency: &AgencyId) -> Condition {
    a.agency_id.eq(agency.0)
}

fn not_withdrawn(s: SpecimenColumns) -> Condition {
    s.withdrawn_at.is_null()
}

/// The same by a parent that is followed, whose policies hold for it.
fn of_borehole(s: SpecimenColumns) -> Condition {
    s.borehole().depth_m.ge(0)
}

fn of_specimen(a: AssayColumns) -> Condition {
    a.specimen().grams.ge(0)
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct PerRegion {
    #[nepheline(by_code_point)]
    region: String,
    specimens: i64,
    grams: Option<i64>,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Labelled {
    id: i64,
    #[nepheline(by_code_point)]
    label: String,
}

/// Which policies are on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Mode {
    AllOn,
    /// All but that of agencies.
    OtherAgencies,
    Withdrawn,
    Closed,
    AllWaived,
}

impl Mode {
    fn of<T: nepheline::Tables, R, L: nepheline::Level>(
        self,
        query: nepheline::Query<T, R, L>,
    ) -> nepheline::Query<T, R, L> {
        match self {
            Mode::AllOn => query,
            Mode::OtherAgencies => query
                .waive_everywhere(own_agency)
                .waive_everywhere(colleague),
            Mode::Withdrawn => query.waive_everywhere(not_withdrawn),
            Mode::Closed => query.waive_everywhere(not_closed),
            Mode::AllWaived => query.waive_every_policy(),
        }
    }
}

/// All rows of all tables; those of agency 1 alone are asked for.
#[derive(Debug, Clone)]
struct World {
    sites: Vec<Site>,
    boreholes: Vec<Borehole>,
    analysts: Vec<Analyst>,
    specimens: Vec<Specimen>,
    assays: Vec<Assay>,
    tagged: Vec<Tagged>,
}

const TAGS: i64 = 3;

impl World {
    /// Made of numbers, which are drawn.
    fn of(mut draw: impl FnMut(i64) -> i64) -> World {
        let closed = Date::constant(2021, 5, 1);
        let at: Timestamp = "2024-03-01T08:00:00Z".parse().unwrap();
        let sites: Vec<Site> = (1..=6)
            .map(|id| Site {
                id,
                agency_id: draw(2) + 1,
                region: ["North", "South", "West"][draw(3) as usize].to_owned(),
                closed_on: (draw(4) == 0).then_some(closed),
            })
            .collect();
        let boreholes: Vec<Borehole> = (1..=12)
            .map(|id| Borehole { id, site_id: draw(6) + 1, depth_m: draw(900) as f64 })
            .collect();
        let analysts: Vec<Analyst> = (1..=4)
            .map(|id| Analyst { id, agency_id: draw(2) + 1, name: format!("Analyst {id}") })
            .collect();
        let specimens: Vec<Specimen> = (1..=50)
            .map(|id| Specimen {
                id,
                label: format!("GD-{id:03}"),
                borehole_id: draw(12) + 1,
                analyst_id: (draw(3) > 0).then(|| draw(4) + 1),
                parent_id: (id > 1 && draw(2) == 0).then(|| draw(id - 1) + 1),
                grams: draw(100),
                withdrawn_at: (draw(4) == 0).then_some(at),
            })
            .collect();
        let assays = (1..=120)
            .map(|id| Assay {
                id,
                specimen_id: draw(50) + 1,
                element: ["Nd", "Ce", "La"][draw(3) as usize].to_owned(),
                ppm: draw(1000),
            })
            .collect();
        let links: BTreeSet<(i64, i64)> = (0..60).map(|_| (draw(50) + 1, draw(TAGS) + 1)).collect();
        let tagged = links
            .into_iter()
            .map(|(specimen_id, tag_id)| Tagged { specimen_id, tag_id })
            .collect();
        World { sites, boreholes, analysts, specimens, assays, tagged }
    }

    /// Only what may be seen in this mode.
    fn visible(mut self, mode: Mode) -> World {
        let all = mode == Mode::AllWaived;
        let ours = |agency: i64| all || mode == Mode::OtherAgencies || agency == 1;
        let open = |s: &Site| all || mode == Mode::Closed || s.closed_on.is_none();
        let there = |s: &Specimen| all || mode == Mode::Withdrawn || s.withdrawn_at.is_none();
        self.sites.retain(|s| ours(s.agency_id) && open(s));
        self.analysts.retain(|a| ours(a.agency_id));
        self.boreholes
            .retain(|b| self.sites.iter().any(|s| s.id == b.site_id));
        self.specimens
            .retain(|s| there(s) && self.boreholes.iter().any(|b| b.id == s.borehole_id));
        self.assays
            .retain(|a| self.specimens.iter().any(|s| s.id == a.specimen_id));
        self.tagged
            .retain(|t| self.specimens.iter().any(|s| s.id == t.specimen_id));
        self
    }

    fn fill(&self, engine: &Engine, db: &Database) {
        fill(engine, db, &self.sites);
        fill(engine, db, &self.boreholes);
        fill(engine, db, &self.analysts);
        fill(engine, db, &self.specimens);
        fill(engine, db, &self.assays);
        fill(engine, db, &self.tagged);
        // Without a look at the tables PostgreSQL takes them for large ones, and plans at length.
        if engine.dialect() == Dialect::Postgres {
            let tables = "guard_site, guard_borehole, guard_analyst, guard_specimen, guard_assay, guard_tagged";
            db.run_text(&format!("ANALYZE {tables}"), vec![]).unwrap();
        }
    }
}

fn fill<T: Table>(engine: &Engine, db: &Database, rows: &[T]) {
    let (table, columns) = (T::INFO.name(), T::INFO.columns());
    db.run_text(&format!("DELETE FROM {table}"), vec![])
        .unwrap();
    let width = columns.len();
    let places = |row: usize| -> String {
        let places = (1..=width).map(|i| match engine.dialect() {
            Dialect::Postgres => format!("${}", row * width + i),
            _ => "?".to_owned(),
        });
        format!("({})", places.collect::<Vec<_>>().join(", "))
    };
    let values: Vec<String> = (0..rows.len()).map(places).collect();
    let binds: Vec<BindValue> = rows
        .iter()
        .flat_map(|row| columns.iter().map(|column| row.value(column)))
        .collect();
    if !rows.is_empty() {
        db.run_text(&format!("INSERT INTO {table} VALUES {}", values.join(", ")), binds)
            .unwrap();
    }
}

fn prepared(engine: &Engine) -> Database {
    let db = engine.open();
    let text = engine.pick("TEXT", "text COLLATE \"C\"", "VARCHAR(40) COLLATE utf8mb4_nopad_bin");
    let (day, time) =
        (engine.pick("TEXT", "date", "DATE"), engine.pick("TEXT", "timestamptz", "DATETIME(6)"));
    let float = engine.pick("REAL", "float8", "DOUBLE");
    for (table, columns) in [
        ("site", format!("id BIGINT, agency_id BIGINT, region {text}, closed_on {day}")),
        ("borehole", format!("id BIGINT, site_id BIGINT, depth_m {float}")),
        ("analyst", format!("id BIGINT, agency_id BIGINT, name {text}")),
        (
            "specimen",
            format!(
                "id BIGINT, label {text}, borehole_id BIGINT, analyst_id BIGINT, parent_id BIGINT, \
                 grams BIGINT, withdrawn_at {time}"
            ),
        ),
        ("assay", format!("id BIGINT, specimen_id BIGINT, element {text}, ppm BIGINT")),
        ("tag", "id BIGINT".to_owned()),
        ("tagged", "specimen_id BIGINT, tag_id BIGINT".to_owned()),
    ] {
        db.run_text(&format!("DROP TABLE IF EXISTS guard_{table}"), vec![])
            .unwrap();
        db.run_text(&format!("CREATE TABLE guard_{table} ({columns})"), vec![])
            .unwrap();
    }
    let tags: Vec<Tag> = (1..=TAGS).map(|id| Tag { id }).collect();
    fill(engine, &db, &tags);
    db.carrying(AgencyId(1))
}

/// A question: of which kind, and with which numbers.
#[derive(Debug, Clone, Copy)]
struct Question {
    kind: u32,
    id: i64,
    least: i64,
    few: u64,
    flag: bool,
    mode: Mode,
}

const KINDS: u32 = 28;

fn questions() -> impl Strategy<Value = Question> {
    let mode = prop_oneof![
        6 => Just(Mode::AllOn),
        2 => Just(Mode::OtherAgencies),
        2 => Just(Mode::Withdrawn),
        2 => Just(Mode::Closed),
    ];
    (0..KINDS, 1..51_i64, 0..100_i64, 1..6_u64, any::<bool>(), mode).prop_map(
        |(kind, id, least, few, flag, mode)| Question { kind, id, least, few, flag, mode },
    )
}

/// All that can be learned by a query: its rows, how many there are, whether there are any, pages.
fn answer<Q: Readable<Row: Debug>>(db: &Database, query: &Q) -> String {
    let mut told = String::new();
    let mut tell = |told_by: &str, told_now: Result<String, Error>| {
        let _ = match told_now {
            Ok(answer) => writeln!(told, "{told_by}: {answer}"),
            // Of an error the SQL differs, and that is all that may.
            Err(err) => writeln!(told, "{told_by}: error {:?} at {:?}", err.kind(), err.row()),
        };
    };
    tell("rows", db.read(query).map(|rows| format!("{rows:?}")));
    tell("count", db.count(query).map(|count| count.to_string()));
    tell("presence", db.has_rows(query).map(|any| any.to_string()));
    tell("one", db.read_at_most_one(query).map(|row| format!("{row:?}")));
    told
}

/// The same in pages: numbered ones with their totals, and those that go on after a row.
fn pages<Q: Readable<Row: Debug>>(db: &Database, query: &Q, size: u64) -> String {
    let mut told = String::new();
    let paging = Paging::of(size).number(2);
    let page = db.read_page(query, paging).unwrap();
    let _ =
        writeln!(told, "{:?} of {} pages, {} rows", page.rows(), page.all_pages(), page.all_rows());
    let mut cursor = None;
    for _ in 0..4 {
        let stretch = db
            .read_after(query, cursor.as_ref(), u32::try_from(size).unwrap())
            .unwrap();
        let _ = writeln!(told, "{:?}, more {}", stretch.rows(), stretch.after().is_some());
        let Some(next) = stretch.after() else { break };
        cursor = Some(next.clone());
    }
    told
}

fn asked(db: &Database, question: Question) -> String {
    let Question { kind, id, least, few, flag, mode } = question;
    let specimens = || mode.of(Specimen::rows());
    let heavy = |s: SpecimenColumns| flag.then(|| s.grams.ge(least));
    match kind {
        0 => answer(db, &specimens().filter(heavy).order_by(|s| s.id.asc())),
        1 => answer(db, &mode.of(Specimen::row(id))),
        2 => answer(db, &mode.of(Specimen::row_by_label(format!("GD-{id:03}")))),
        3 => answer(
            db,
            &specimens()
                .order_by(|s| (s.grams.desc(), s.id.asc()))
                .limit(few)
                .offset(few / 2),
        ),
        4 => answer(
            db,
            &specimens()
                .filter(|s| {
                    s.borehole()
                        .site()
                        .region
                        .eq(if flag { "North" } else { "South" })
                })
                .order_by(|s| s.id.asc()),
        ),
        5 => answer(
            db,
            &specimens().order_by(|s| s.id.asc()).select(|s| {
                let parent = s.parent();
                (
                    s.id,
                    s.analyst().map(|a| a.name),
                    parent.map(|p| p.label),
                    parent.and_then(|p| p.analyst()).map(|a| a.name),
                )
            }),
        ),
        6 => answer(
            db,
            &mode
                .of(Borehole::rows())
                .filter(|b| {
                    let some = b.specimens().filter(|s| s.grams.ge(least));
                    if flag { some.exists() } else { some.not_exists() }
                })
                .order_by(|b| b.id.asc()),
        ),
        7 => answer(
            db,
            &mode
                .of(Borehole::rows())
                .filter(|b| b.specimens().count().ge(few as i64))
                .order_by(|b| b.id.asc())
                .select(|b| (b.id, b.specimens().count(), b.specimens().sum(|s| s.grams))),
        ),
        8 => answer(
            db,
            &mode
                .of(Site::rows())
                .filter(|s| {
                    s.boreholes()
                        .all_satisfy(|b| b.specimens().any(|s| s.grams.gt(least)))
                })
                .order_by(|s| s.id.asc()),
        ),
        9 => answer(
            db,
            &mode.of(Site::rows()).order_by(|s| s.id.asc()).select(|s| {
                let specimens = s.boreholes().flat_map(|b| b.specimens());
                (s, specimens.clone().count(), specimens.max(|s| s.grams))
            }),
        ),
        10 => answer(
            db,
            &specimens()
                .join(|s| s.borehole())
                .filter(|(s, b)| s.grams.ge(least) & b.depth_m.gt(50))
                .order_by(|(s, _)| s.id.asc()),
        ),
        11 => answer(
            db,
            &mode
                .of(Borehole::rows())
                .left_join(|b| {
                    Specimen::rows().filter(|s| s.borehole_id.eq(b.id) & s.grams.ge(least))
                })
                .order_by(|(b, s)| (b.id.asc(), s.map(|s| s.id).asc())),
        ),
        12 => answer(
            db,
            &mode
                .of(Site::rows())
                .order_by(|s| s.id.asc())
                .alongside(|s| {
                    s.boreholes().order_by(|b| b.id.asc()).alongside(|b| {
                        b.specimens()
                            .order_by(|s| (s.grams.asc(), s.id.asc()))
                            .limit(few)
                    })
                }),
        ),
        13 => answer(
            db,
            &specimens()
                .filter(heavy)
                .order_by(|s| s.id.asc())
                .alongside(|s| s.borehole())
                .alongside(|s| s.analyst())
                .alongside(|s| s.parent()),
        ),
        14 => answer(
            db,
            &mode
                .of(Tag::rows())
                .order_by(|t| t.id.asc())
                .select(|t| (t.id, t.specimens().count(), t.specimens().avg(|s| s.grams))),
        ),
        15 => answer(
            db,
            &mode
                .of(Tag::rows())
                .order_by(|t| t.id.asc())
                .alongside(|t| {
                    t.specimens()
                        .order_by(|s| s.id.asc())
                        .select(|s| (s.label, s.borehole().depth_m))
                }),
        ),
        16 => answer(
            db,
            &specimens()
                .filter(heavy)
                .select(|s| {
                    shape!(PerRegion {
                        region: per(s.borehole().site().region),
                        specimens: count(),
                        grams: sum(s.grams),
                    })
                })
                .having(|_| count().ge(few as i64))
                .order_by(|s| per(s.borehole().site().region).asc()),
        ),
        17 => answer(
            db,
            &mode.of(Assay::rows()).select(|a| {
                (count(), count_distinct(a.specimen_id), max(a.ppm), count().among(a.ppm.ge(least)))
            }),
        ),
        18 => answer(
            db,
            &specimens()
                .select(|s| (rollup(s.borehole().site().region), count(), max(s.label)))
                .order_by(|s| rollup(s.borehole().site().region).asc()),
        ),
        19 => {
            let totals = mode.of(Specimen::rows()).select(|s| {
                shape!(PerRegion {
                    region: per(s.borehole().site().region),
                    specimens: count(),
                    grams: sum(s.grams),
                })
            });
            let totals = named(totals);
            let mean = totals.rows().select(|t| avg(t.specimens)).value();
            let above = totals.rows().filter(|t| t.specimens.cast::<f64>().ge(mean));
            answer(db, &above.order_by(|t| t.region.asc()))
        }
        20 => {
            let part = |query: Query<Specimen>| {
                mode.of(query)
                    .select(|s| shape!(Labelled { id: s.id, label: s.label }))
            };
            let light = part(Specimen::rows().filter(|s| s.grams.lt(least)));
            let split = part(Specimen::rows().filter(|s| s.parent_id.is_not_null()));
            let both = if flag { light.union(split) } else { light.except(split) };
            answer(db, &both.order_by(|l| l.id.asc()))
        }
        21 => {
            let start = mode.of(Specimen::rows().filter(|s| s.parent_id.is_null()));
            let start = start.select(|s| shape!(Labelled { id: s.id, label: s.label }));
            let tree = recursive(start, 9, |whole| {
                mode.of(Specimen::rows())
                    .join(|s| whole.filter(|w| s.parent_id.eq(w.id)))
                    .select(|(s, w)| shape!(Labelled { id: s.id, label: w.label }))
            });
            answer(db, &tree.order_by(|l| l.id.asc()))
        }
        22 => answer(
            db,
            &specimens()
                .order_by(|s| (s.grams.desc(), s.id.asc()))
                .limit_each(few, |s| s.borehole_id)
                .select(|s| (s.id, row_number().over(|w| w.order_by(s.id.asc())))),
        ),
        23 => answer(
            db,
            &specimens()
                .filter(|s| {
                    let rich = Assay::rows()
                        .filter(|a| a.ppm.ge(least))
                        .select(|a| a.specimen_id);
                    if flag { s.id.one_of(rich) } else { s.id.none_of(rich) }
                })
                .filter(|s| {
                    s.grams
                        .le(Specimen::rows().select(|s| max(s.grams)).value())
                })
                .order_by(|s| s.id.asc()),
        ),
        24 => pages(
            db,
            &specimens()
                .filter(heavy)
                .order_by(|s| (s.borehole().site().region.desc(), s.grams.asc(), s.id.asc())),
            few,
        ),
        // Of a table without policies: hidden are the rows whose required parent is.
        25 => answer(
            db,
            &mode
                .of(Tagged::rows())
                .order_by(|t| (t.specimen_id.asc(), t.tag_id.asc()))
                .alongside(|t| t.specimen()),
        ),
        26 => answer(
            db,
            &mode
                .of(Tagged::rows())
                .order_by(|t| (t.specimen_id.asc(), t.tag_id.asc()))
                .select(|t| (t.tag_id, t.specimen().label)),
        ),
        _ => answer(
            db,
            &mode
                .of(Borehole::rows())
                .order_by(|b| b.id.asc())
                .select(|b| {
                    let heaviest = b.specimens().order_by(|s| (s.grams.desc(), s.id.asc()));
                    (b.id, heaviest.first(|s| s.label), b.site().region)
                }),
        ),
    }
}

#[test]
fn nobody_learns_of_hidden_rows() {
    let _alone = alone();
    std::thread::scope(|scope| {
        for engine in engines() {
            scope.spawn(move || hides_all_that_is_hidden(&engine));
        }
    });
}

fn hides_all_that_is_hidden(engine: &Engine) {
    const WORLDS: usize = 4;
    const QUESTIONS: usize = 540;
    let db = prepared(engine);
    let mut runner = TestRunner::deterministic();
    let mut hiding = [0; KINDS as usize];
    for _ in 0..WORLDS {
        let world = World::of(|below| (0..below).new_tree(&mut runner).unwrap().current());
        let drawn = (0..QUESTIONS).map(|_| questions().new_tree(&mut runner).unwrap().current());
        let questions: Vec<Question> = drawn.collect();
        let openly =
            |question: &Question| asked(&db, Question { mode: Mode::AllWaived, ..*question });
        world.fill(engine, &db);
        let guarded: Vec<String> = questions.iter().map(|q| asked(&db, *q)).collect();
        // That there is something to hide is seen by some of them.
        for (question, guarded) in questions.iter().zip(&guarded).step_by(4) {
            hiding[question.kind as usize] += usize::from(openly(question) != *guarded);
        }
        for mode in [Mode::AllOn, Mode::OtherAgencies, Mode::Withdrawn, Mode::Closed] {
            world.clone().visible(mode).fill(engine, &db);
            let in_mode = questions
                .iter()
                .zip(&guarded)
                .filter(|(q, _)| q.mode == mode);
            for (question, guarded) in in_mode {
                assert_eq!(*guarded, openly(question), "on {}: {question:?}", engine.name);
            }
        }
    }
    // Where nothing was hidden, nothing was proved.
    let told = hiding.iter().position(|hidden| *hidden == 0);
    assert_eq!(told, None, "questions of a kind that hid nothing");
}

/// What updates and deletes leave of rows that are hidden: all of it.
#[test]
fn nobody_writes_to_hidden_rows() {
    let _alone = alone();
    for engine in engines() {
        let db = prepared(&engine);
        let mut runner = TestRunner::deterministic();
        let mut number = |below: i64| (0..below).new_tree(&mut runner).unwrap().current();
        for round in 0..24 {
            let world = World::of(&mut number);
            world.fill(&engine, &db);
            let mode = [Mode::AllOn, Mode::OtherAgencies, Mode::Withdrawn, Mode::Closed][round % 4];
            let visible = world.clone().visible(mode);
            let (least, few) = (number(100), number(8) as u64 + 1);
            let heavy = |s: &Specimen| s.grams >= least;
            let deep = |s: &Specimen| {
                let borehole = world.boreholes.iter().find(|b| b.id == s.borehole_id);
                borehole.is_some_and(|b| b.depth_m >= 400.0)
            };
            let query = mode.of(Specimen::rows());
            let mut expected = world.specimens.clone();
            let hit: Vec<i64> = match round / 4 % 3 {
                0 => {
                    let query = query.filter(|s| s.grams.ge(least));
                    db.write(&query.update(|s| s.grams.set(s.grams + 1_000)))
                        .unwrap();
                    visible
                        .specimens
                        .iter()
                        .filter(|s| heavy(s))
                        .map(|s| s.id)
                        .collect()
                }
                1 => {
                    let query = query.filter(|s| s.borehole().depth_m.ge(400));
                    db.write(&query.update(|s| s.grams.set(s.grams + 1_000)))
                        .unwrap();
                    visible
                        .specimens
                        .iter()
                        .filter(|s| deep(s))
                        .map(|s| s.id)
                        .collect()
                }
                _ => {
                    let query = query.order_by(|s| s.id.asc()).limit(few);
                    assert!(db.write(&query.delete()).unwrap() <= few);
                    let hit = visible.specimens.iter().take(few as usize).map(|s| s.id);
                    let hit: Vec<i64> = hit.collect();
                    expected.retain(|s| !hit.contains(&s.id));
                    Vec::new()
                }
            };
            for specimen in expected.iter_mut().filter(|s| hit.contains(&s.id)) {
                specimen.grams += 1_000;
            }
            let all = Specimen::rows()
                .waive_every_policy()
                .order_by(|s| s.id.asc());
            assert_eq!(db.read(&all).unwrap(), expected, "on {}: {mode:?}", engine.name);
        }
    }
}

/// The tables are for one test at a time.
fn alone() -> MutexGuard<'static, ()> {
    static ALONE: Mutex<()> = Mutex::new(());
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

mod circle {
    //! Tables whose policies refer to each other.

    use nepheline::prelude::*;

    #[derive(Debug, Table)]
    #[nepheline(table = "ring_left", children(rights: Right by left_id), policies(has_right))]
    pub(super) struct Left {
        #[nepheline(key)]
        pub(super) id: i64,
    }

    #[derive(Debug, Table)]
    #[nepheline(table = "ring_right", policies(has_left))]
    pub(super) struct Right {
        #[nepheline(key)]
        pub(super) id: i64,
        #[nepheline(references = Left)]
        pub(super) left_id: i64,
    }

    /// Leads to itself through a query that has a name.
    #[derive(Debug, Table)]
    #[nepheline(table = "ring_self", policies(not_the_last))]
    pub(super) struct Itself {
        #[nepheline(key)]
        pub(super) id: i64,
    }

    #[derive(Debug, RowShape)]
    #[allow(dead_code, reason = "only the database reads it")]
    struct Last {
        id: i64,
    }

    fn not_the_last(s: ItselfColumns) -> Condition {
        let all = named(Itself::rows().select(|s| shape!(Last { id: s.id })));
        all.rows().filter(|other| other.id.gt(s.id)).exists()
    }

    fn has_right(l: LeftColumns) -> Condition {
        l.rights().exists()
    }

    fn has_left(r: RightColumns) -> Condition {
        r.left().id.gt(0)
    }
}

/// What is waived where, as it is told, and what is refused.
#[test]
fn policies_are_told() {
    let carried = Carried::new().with(AgencyId(1));
    let told = |sql: Result<nepheline::Sql, Error>| match sql {
        Ok(sql) => {
            let met = sql.policies().iter().map(|met| format!("\n  {met}"));
            format!("{}\n{}", sql.text(), met.collect::<String>().trim_start_matches('\n'))
        }
        Err(err) => err.to_string(),
    };
    let of =
        |query: nepheline::Query<Specimen>| told(query.sql_carrying(Dialect::Postgres, &carried));
    let here = |query: nepheline::Query<Specimen>| told(query.sql(Dialect::Postgres));
    let shown = [
        of(Specimen::row(7)),
        of(Specimen::row(7).waive(not_withdrawn)),
        of(Specimen::row(7)
            .waive(not_withdrawn)
            .filter(|s| s.parts().exists())),
        of(Specimen::row(7)
            .waive_everywhere(not_withdrawn)
            .filter(|s| s.parts().exists())),
        of(Specimen::row(7).filter(|s| s.parts().waive(not_withdrawn).not_exists())),
        of(Specimen::row(7).waive_every_policy()),
        // Waived inside of a scope: there alone.
        of(Specimen::row(7).filter(|s: SpecimenColumns| {
            let any = Specimen::rows().waive(not_withdrawn).waive(of_borehole);
            any.filter(|other| other.parent_id.eq(s.id)).exists()
        })),
        // Left out for a joined table, and for it alone.
        told(
            Borehole::rows()
                .join(|b| {
                    Specimen::rows()
                        .waive_every_policy()
                        .filter(|s| s.borehole_id.eq(b.id))
                })
                .sql_carrying(Dialect::Postgres, &carried),
        ),
        of(Specimen::row(7).waive(own_agency)),
        here(Specimen::row(7)),
        here(Specimen::row(7).waive_everywhere(own_agency)),
        told(circle::Left::rows().sql(Dialect::Postgres)),
        told(circle::Right::rows().sql(Dialect::Postgres)),
        told(circle::Itself::rows().sql(Dialect::Postgres)),
    ];
    insta::assert_snapshot!(shown.join("\n\n"));
}

/// What is run is what is shown, whichever way the policies come into it.
#[test]
fn what_is_shown_is_what_runs() {
    let _alone = alone();
    let record = nepheline::Record::new();
    let db = prepared(&engines()[0]).recording_to(&record);
    let carried = Carried::new().with(AgencyId(1));
    let shown_and_run = |query: nepheline::Query<Site>| {
        let mark = record.mark();
        db.read(&query).unwrap();
        let shown = query.sql_carrying(Dialect::Sqlite, &carried).unwrap();
        assert_eq!(record.since(mark)[0].sql(), shown.text());
    };
    shown_and_run(Site::rows());
    // The same condition by the policy and by the query stands there once.
    shown_and_run(
        Site::rows()
            .filter(not_closed)
            .filter(|s| s.region.eq("North")),
    );
    shown_and_run(Site::rows().waive(not_closed).filter(not_closed));
    shown_and_run(
        Site::rows()
            .filter(|s| s.boreholes().exists())
            .order_by(|s| s.id.asc()),
    );
    shown_and_run(Site::row(3).waive_every_policy());
}

/// A policy of the database itself sees who is asking, in transactions of a handle that mirrors it.
#[test]
fn the_database_sees_who_is_asking() {
    #[derive(Debug, Clone, Copy)]
    struct Asking(i64);

    impl std::fmt::Display for Asking {
        fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
            write!(f, "{}", self.0)
        }
    }

    #[derive(Debug, PartialEq, Table)]
    #[nepheline(table = "row_secured")]
    struct Secured {
        #[nepheline(key)]
        id: i64,
        agency_id: i64,
    }

    let rows = |ids: [i64; 2]| {
        Secured::insert_all(ids.map(|id| UnsavedSecured { id, agency_id: id % 2 + 1 }))
    };
    for engine in engines() {
        let db = engine.open();
        if engine.dialect() != Dialect::Postgres {
            let mirroring = db.carrying(Asking(1)).mirroring::<Asking>("shed.agency");
            let err = mirroring
                .transaction(|tx| tx.count(&Secured::rows()))
                .unwrap_err();
            assert_eq!(err.kind(), ErrorKind::Unsupported, "on {}: {err}", engine.name);
            continue;
        }
        for text in [
            "DROP TABLE IF EXISTS row_secured",
            "CREATE TABLE row_secured (id bigint PRIMARY KEY, agency_id bigint NOT NULL)",
            "ALTER TABLE row_secured ENABLE ROW LEVEL SECURITY",
            // Of the owner too, who the tests are.
            "ALTER TABLE row_secured FORCE ROW LEVEL SECURITY",
            "CREATE POLICY own ON row_secured \
             USING (agency_id = nullif(current_setting('shed.agency', true), '')::bigint)",
        ] {
            db.run_text(text, vec![]).unwrap();
        }
        let of = |agency: i64| {
            db.carrying(Asking(agency))
                .mirroring::<Asking>("shed.agency")
        };
        let seen = |agency: i64| of(agency).transaction(|tx| tx.read(&Secured::rows()));
        of(1).transaction(|tx| tx.write(&rows([2, 4]))).unwrap();
        of(2).transaction(|tx| tx.write(&rows([1, 3]))).unwrap();
        assert_eq!(
            seen(1)
                .unwrap()
                .iter()
                .map(|row| row.id)
                .collect::<Vec<_>>(),
            [2, 4]
        );
        assert_eq!(
            seen(2)
                .unwrap()
                .iter()
                .map(|row| row.id)
                .collect::<Vec<_>>(),
            [1, 3]
        );
        // A row of somebody else's is refused by the database, and nothing outlives the transaction.
        of(1).transaction(|tx| tx.write(&rows([5, 7]))).unwrap_err();
        assert_eq!(db.count(&Secured::rows()).unwrap(), 0);
        let nobody = db.mirroring::<Asking>("shed.agency");
        let err = nobody
            .transaction(|tx| tx.count(&Secured::rows()))
            .unwrap_err();
        assert_eq!(err.kind(), ErrorKind::MissingCarried);
        let outside = of(1).count(&Secured::rows()).unwrap_err();
        assert_eq!(outside.kind(), ErrorKind::Unsupported, "{outside}");
    }
}
