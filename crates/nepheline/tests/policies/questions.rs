//! Questions of every kind, as they are generated and asked.

use std::fmt::{Debug, Write as _};

use nepheline::blocking::{Database, RunsQueries};
use nepheline::prelude::*;
use nepheline::{Paging, Readable, recursive};
use proptest::prelude::*;
use proptest::sample::select;

use crate::world::*;

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

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Counted {
    secret: i64,
    specimens: i64,
}

/// The form of a question.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Filtered,
    ByKey,
    ByUniqueColumn,
    OrderedAndLimited,
    FollowedParent,
    OptionalParents,
    ChildrenExist,
    ChildrenCounted,
    AllChildren,
    Grandchildren,
    Joined,
    LeftJoined,
    BridgeLeftJoined,
    ChildrenAlongside,
    ParentsAlongside,
    BridgeCounted,
    BridgeAlongside,
    Grouped,
    Totals,
    RolledUp,
    RankedGroups,
    ParentGroups,
    FullJoined,
    FullJoinCounted,
    CommonTable,
    Set,
    Recursive,
    LimitedForEach,
    InQuery,
    Pages,
    RequiredParentAlongside,
    RequiredParentFollowed,
    OptionalParentRequired,
    JoinedRowRequired,
    FirstChild,
    Derived,
    GroupedBySecret,
    InComputed,
}

impl Kind {
    pub(crate) const ALL: [Kind; 38] = [
        Kind::Filtered,
        Kind::ByKey,
        Kind::ByUniqueColumn,
        Kind::OrderedAndLimited,
        Kind::FollowedParent,
        Kind::OptionalParents,
        Kind::ChildrenExist,
        Kind::ChildrenCounted,
        Kind::AllChildren,
        Kind::Grandchildren,
        Kind::Joined,
        Kind::LeftJoined,
        Kind::BridgeLeftJoined,
        Kind::ChildrenAlongside,
        Kind::ParentsAlongside,
        Kind::BridgeCounted,
        Kind::BridgeAlongside,
        Kind::Grouped,
        Kind::Totals,
        Kind::RolledUp,
        Kind::RankedGroups,
        Kind::ParentGroups,
        Kind::FullJoined,
        Kind::FullJoinCounted,
        Kind::CommonTable,
        Kind::Set,
        Kind::Recursive,
        Kind::LimitedForEach,
        Kind::InQuery,
        Kind::Pages,
        Kind::RequiredParentAlongside,
        Kind::RequiredParentFollowed,
        Kind::OptionalParentRequired,
        Kind::JoinedRowRequired,
        Kind::FirstChild,
        Kind::Derived,
        Kind::GroupedBySecret,
        Kind::InComputed,
    ];
}

/// A question of a kind, with the numbers that it is asked with.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Question {
    pub(crate) kind: Kind,
    pub(crate) id: i64,
    pub(crate) least: i64,
    pub(crate) few: u64,
    pub(crate) flag: bool,
    /// True if it computes what fails for the rows of other agencies.
    pub(crate) computes: bool,
    pub(crate) mode: Mode,
}

pub(crate) fn questions() -> impl Strategy<Value = Question> {
    let mode = prop_oneof![
        6 => Just(Mode::AllOn),
        2 => Just(Mode::OtherAgencies),
        2 => Just(Mode::Withdrawn),
        2 => Just(Mode::Closed),
    ];
    let flags = (any::<bool>(), any::<bool>());
    (select(Kind::ALL.to_vec()), 1..51_i64, 0..100_i64, 1..6_u64, flags, mode).prop_map(
        |(kind, id, least, few, (flag, computes), mode)| {
            // Who sees the rows of other agencies sees them fail.
            let computes = computes && mode != Mode::OtherAgencies;
            Question { kind, id, least, few, flag, computes, mode }
        },
    )
}

/// All that can be learned by a query: its rows, how many there are, whether there are any, pages.
pub(crate) fn answer<Q: Readable<Row: Debug>>(db: &Database, query: &Q) -> String {
    let mut told = String::new();
    let mut tell = |told_by: &str, told_now: Result<String, Error>| {
        let _ = match told_now {
            Ok(answer) => writeln!(told, "{told_by}: {answer}"),
            // Only the SQL of an error may differ.
            Err(err) => {
                let text = err.to_string();
                let text = text.split("; the SQL was").next();
                writeln!(told, "{told_by}: error {:?}: {}", err.kind(), text.unwrap_or_default())
            }
        };
    };
    tell("rows", db.read(query).map(|rows| format!("{rows:?}")));
    tell("count", db.count(query).map(|count| count.to_string()));
    tell("presence", db.exists(query).map(|any| any.to_string()));
    tell("one", db.read_at_most_one(query).map(|row| format!("{row:?}")));
    told
}

/// The same in pages: numbered ones with their totals, and those that go on after a row.
pub(crate) fn pages<Q: Readable<Row: Debug>>(db: &Database, query: &Q, size: u64) -> String {
    let mut told = String::new();
    let paging = Paging::page_size(size).page(2);
    let page = db.read_page(query, paging).unwrap();
    let _ = writeln!(
        told,
        "{:?} of {} pages, {} rows",
        page.rows(),
        page.total_pages(),
        page.total_rows()
    );
    let mut cursor = None;
    for _ in 0..4 {
        let page = db
            .read_after(query, cursor.as_ref(), u32::try_from(size).unwrap())
            .unwrap();
        let _ = writeln!(told, "{:?}, more {}", page.rows(), page.after().is_some());
        let Some(next) = page.after() else { break };
        cursor = Some(next.clone());
    }
    told
}

/// Boreholes and specimens beside each other, also those without a match.
fn full_joined(mode: Mode, least: i64) -> Query<(Option<Borehole>, Option<Specimen>)> {
    mode.of(Borehole::rows()).full_join(|b| {
        mode.of(Specimen::rows())
            .filter(|s| s.borehole_id.eq(b.id) & s.grams.ge(least))
    })
}

pub(crate) fn asked(db: &Database, question: Question) -> String {
    let Question { kind, id, least, few, flag, computes, mode } = question;
    let sound = |secret: Column<i64>| computes.then(|| secret.abs().ge(0));
    let magnitude = |secret: Column<i64>| if computes { secret.abs() } else { secret + 0 };
    let specimens = || mode.of(Specimen::rows()).filter(|s| sound(s.secret));
    let boreholes = || mode.of(Borehole::rows()).filter(|b| sound(b.secret));
    let heavy = |s: SpecimenColumns| flag.then(|| s.grams.ge(least));
    match kind {
        Kind::Filtered => answer(db, &specimens().filter(heavy).order_by(|s| s.id.asc())),
        // With an index on the key, an engine may read the row before it looks at any condition.
        Kind::ByKey => {
            let (site, analyst) =
                (mode.of(Site::row(id % 6 + 1)), mode.of(Analyst::row(id % 4 + 1)));
            [
                answer(db, &mode.of(Specimen::row(id)).filter(|s| sound(s.secret))),
                answer(db, &site.filter(|s| sound(s.secret))),
                answer(db, &analyst.filter(|a| sound(a.secret))),
            ]
            .concat()
        }
        Kind::ByUniqueColumn => answer(
            db,
            &mode
                .of(Specimen::row_by_label(format!("GD-{id:03}")))
                .filter(|s| sound(s.secret)),
        ),
        Kind::OrderedAndLimited => answer(
            db,
            &specimens()
                .order_by(|s| (s.grams.desc(), s.id.asc()))
                .limit(few)
                .offset(few / 2),
        ),
        Kind::FollowedParent => answer(
            db,
            &specimens()
                .filter(|s| {
                    s.borehole()
                        .site()
                        .region
                        .eq(if flag { "North" } else { "South" })
                })
                .filter(|s| sound(s.borehole().site().secret))
                .order_by(|s| s.id.asc()),
        ),
        Kind::OptionalParents => answer(
            db,
            &specimens()
                .filter(|s| {
                    let analyst = s.analyst().map(|a| a.secret.abs());
                    computes.then(|| {
                        analyst.clone().ge(0)
                            | analyst.clone().is_null()
                            | (analyst.clone() + s.secret).ge(0)
                    })
                })
                .order_by(|s| s.id.asc())
                .select(|s| {
                    let parent = s.parent();
                    (
                        s.id,
                        s.analyst().map(|a| a.name),
                        parent.map(|p| p.label),
                        parent.and_then(|p| p.analyst()).map(|a| a.name),
                    )
                }),
        ),
        Kind::ChildrenExist => answer(
            db,
            &boreholes()
                .filter(|b| {
                    let some = b
                        .specimens()
                        .filter(|s| s.grams.ge(least) & sound(s.secret));
                    let some = some.filter(|s| computes.then(|| (s.secret + b.secret).ge(0)));
                    if flag { some.exists() } else { some.not_exists() }
                })
                .order_by(|b| b.id.asc()),
        ),
        Kind::ChildrenCounted => answer(
            db,
            &boreholes()
                .filter(|b| b.specimens().count().ge(few as i64))
                .order_by(|b| b.id.asc())
                .select(|b| (b.id, b.specimens().count(), b.specimens().sum(|s| s.grams))),
        ),
        Kind::AllChildren => answer(
            db,
            &mode
                .of(Site::rows())
                .filter(|s| {
                    s.boreholes()
                        .all(|b| b.specimens().any(|s| s.grams.gt(least)))
                })
                .order_by(|s| s.id.asc()),
        ),
        Kind::Grandchildren => answer(
            db,
            &mode.of(Site::rows()).order_by(|s| s.id.asc()).select(|s| {
                let specimens = s.boreholes().flat_map(|b| b.specimens());
                (s, specimens.clone().count(), specimens.max(|s| s.grams))
            }),
        ),
        Kind::Joined => answer(
            db,
            &specimens()
                .join(|s| s.borehole())
                .filter(|(s, b)| s.grams.ge(least) & b.depth_m.gt(50))
                .filter(|(s, b)| computes.then(|| (s.secret + b.secret.abs()).ge(0)))
                .order_by(|(s, _)| s.id.asc()),
        ),
        Kind::LeftJoined => answer(
            db,
            &boreholes()
                .left_join(|b| {
                    Specimen::rows().filter(|s| {
                        s.borehole_id.eq(b.id)
                            & s.grams.ge(least)
                            & sound(s.secret)
                            & sound(b.secret)
                    })
                })
                .filter(|(_, s)| {
                    let secret = s.map(|s| s.secret.abs());
                    computes.then(|| secret.clone().is_null() | secret.ge(0))
                })
                .order_by(|(b, s)| (b.id.asc(), s.map(|s| s.id).asc())),
        ),
        Kind::BridgeLeftJoined => answer(
            db,
            &mode
                .of(Tag::rows())
                .left_join(|t| t.specimens())
                .filter(|(_, s)| flag.then(|| s.is_none() | s.map(|s| s.grams).ge(least)))
                .filter(|(_, s)| computes.then(|| s.is_none() | s.map(|s| s.secret.abs()).ge(0)))
                .order_by(|(t, s)| (t.id.asc(), s.map(|s| s.id).asc())),
        ),
        Kind::ChildrenAlongside => answer(
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
        Kind::ParentsAlongside => answer(
            db,
            &specimens()
                .filter(heavy)
                .order_by(|s| s.id.asc())
                .alongside(|s| s.borehole())
                .alongside(|s| s.analyst())
                .alongside(|s| s.parent()),
        ),
        Kind::BridgeCounted => answer(
            db,
            &mode
                .of(Tag::rows())
                .order_by(|t| t.id.asc())
                .select(|t| (t.id, t.specimens().count(), t.specimens().avg(|s| s.grams))),
        ),
        Kind::BridgeAlongside => answer(
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
        Kind::Grouped => answer(
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
        Kind::Derived => {
            let secrets = mode.of(Specimen::rows()).select(|s| {
                let id = if flag { magnitude(s.secret) } else { s.secret + 0 };
                shape!(Labelled { id, label: s.label })
            });
            // A value that can fail inside of a condition that cannot, and the other way round.
            let computed = match flag {
                true => from(secrets).filter(|s| s.id.ge(0)),
                false => from(secrets).filter(|s| magnitude(s.id).ge(0)),
            };
            let computed = computed.order_by(|s| s.label.asc());
            answer(db, &computed)
        }
        Kind::GroupedBySecret => {
            let secrets = mode
                .of(Specimen::rows())
                .select(|s| shape!(Counted { secret: per(s.secret), specimens: count() }));
            let secrets = secrets.having(|s| computes.then(|| per(s.secret).abs().ge(0)));
            answer(
                db,
                &from(secrets)
                    .filter(|c| (c.secret + 1).gt(0))
                    .order_by(|c| c.secret.asc()),
            )
        }
        Kind::InComputed => answer(
            db,
            &specimens()
                .filter(|s| {
                    let secrets = Specimen::rows().filter(|s| s.grams.ge(least));
                    s.secret.one_of(secrets.select(|s| magnitude(s.secret)))
                })
                .order_by(|s| s.id.asc()),
        ),
        Kind::Totals => answer(
            db,
            &mode.of(Assay::rows()).select(|a| {
                (
                    count(),
                    count_distinct(a.specimen_id),
                    max(a.ppm),
                    count().filter(a.ppm.ge(least)),
                )
            }),
        ),
        Kind::RolledUp => answer(
            db,
            &specimens()
                .select(|s| (rollup(s.borehole().site().region), count(), max(s.label)))
                .order_by(|s| rollup(s.borehole().site().region).asc()),
        ),
        Kind::RankedGroups => answer(
            db,
            &specimens()
                .select(|s| {
                    let all = mode
                        .of(Specimen::rows())
                        .select(|s| sum(magnitude(s.secret)));
                    let place = rank().over_groups(|w| w.order_by(sum(s.grams).desc()));
                    let whole = sum(sum(magnitude(s.secret))).over_groups(|w| w);
                    (per(s.borehole().site().region), place, whole, all.value().per_group())
                })
                .order_by_selected(|(region, ..)| region.asc()),
        ),
        Kind::ParentGroups => answer(
            db,
            &specimens()
                .select(|s| {
                    let analyst = per_parent(s.analyst());
                    (
                        analyst.map(|a| a.name),
                        count(),
                        sum(s.analyst().map(|a| magnitude(a.secret))),
                    )
                })
                .order_by(|s| per_parent(s.analyst()).map(|a| a.id).asc()),
        ),
        Kind::FullJoined => answer(
            db,
            &full_joined(mode, least)
                .filter(|(b, s)| {
                    let (of_left, of_right) =
                        (b.map(|b| b.secret.abs()), s.map(|s| s.secret.abs()));
                    computes.then(|| of_left.clone().is_null() | of_left.ge(0) | of_right.ge(0))
                })
                .order_by(|(b, s)| (b.map(|b| b.id).asc(), s.map(|s| s.id).asc())),
        ),
        Kind::FullJoinCounted => answer(
            db,
            &full_joined(mode, least)
                .select(|(b, s)| {
                    let secrets = sum(s.map(|s| magnitude(s.secret)));
                    (per(b.map(|b| b.site().region)), count(), secrets)
                })
                .order_by_selected(|(region, ..)| region.asc()),
        ),
        Kind::CommonTable => {
            let totals = mode.of(Specimen::rows()).select(|s| {
                shape!(PerRegion {
                    region: per(s.borehole().site().region),
                    specimens: count(),
                    grams: sum(s.grams),
                })
            });
            let totals = cte(totals);
            let mean = totals.rows().select(|t| avg(t.specimens)).value();
            let above = totals.rows().filter(|t| t.specimens.cast::<f64>().ge(mean));
            answer(db, &above.order_by(|t| t.region.asc()))
        }
        Kind::Set => {
            let part = |query: Query<Specimen>| {
                mode.of(query)
                    .select(|s| shape!(Labelled { id: s.id, label: s.label }))
            };
            let light = part(Specimen::rows().filter(|s| s.grams.lt(least)));
            let split = part(Specimen::rows().filter(|s| s.parent_id.is_not_null()));
            let both = if flag { light.union(split) } else { light.except(split) };
            answer(db, &both.order_by(|l| l.id.asc()))
        }
        Kind::Recursive => {
            let start = mode.of(Specimen::rows().filter(|s| s.parent_id.is_null()));
            let start = start.select(|s| shape!(Labelled { id: s.id, label: s.label }));
            let tree = recursive(start, 9, |whole| {
                mode.of(Specimen::rows())
                    .join(|s| whole.filter(|w| s.parent_id.eq(w.id)))
                    .select(|(s, w)| shape!(Labelled { id: s.id, label: w.label }))
            });
            answer(db, &tree.order_by(|l| l.id.asc()))
        }
        Kind::LimitedForEach => answer(
            db,
            &specimens()
                .order_by(|s| (s.grams.desc(), s.id.asc()))
                .limit_each(few, |s| s.borehole_id)
                .select(|s| (s.id, row_number().over(|w| w.order_by(s.id.asc())))),
        ),
        Kind::InQuery => answer(
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
        Kind::Pages => pages(
            db,
            &specimens()
                .filter(heavy)
                .order_by(|s| (s.borehole().site().region.desc(), s.grams.asc(), s.id.asc())),
            few,
        ),
        // A table without policies: rows are hidden if their required parent is.
        Kind::RequiredParentAlongside => answer(
            db,
            &mode
                .of(Tagged::rows())
                .order_by(|t| (t.specimen_id.asc(), t.tag_id.asc()))
                .alongside(|t| t.specimen()),
        ),
        Kind::RequiredParentFollowed => answer(
            db,
            &mode
                .of(Tagged::rows())
                .order_by(|t| (t.specimen_id.asc(), t.tag_id.asc()))
                .select(|t| (t.tag_id, t.specimen().label)),
        ),
        Kind::OptionalParentRequired => answer(
            db,
            &specimens()
                .filter(|s| sound(s.analyst().required().secret))
                .order_by(|s| s.id.asc())
                .select(|s| {
                    let analyst = s.parent().required().analyst().map(|a| a.name);
                    (s.id, analyst, magnitude(s.analyst().required().secret))
                }),
        ),
        Kind::JoinedRowRequired => answer(
            db,
            &boreholes()
                .left_join(|b| Specimen::rows().filter(|s| s.borehole_id.eq(b.id)))
                .filter(|(_, s)| s.required().grams.ge(least))
                .order_by(|(b, s)| (b.id.asc(), s.required().id.asc()))
                .select(|(b, s)| (b.id, magnitude(s.required().secret))),
        ),
        Kind::FirstChild => answer(
            db,
            &boreholes().order_by(|b| b.id.asc()).select(|b| {
                let heaviest = b.specimens().order_by(|s| (s.grams.desc(), s.id.asc()));
                (b.id, heaviest.first(|s| s.label), b.site().region)
            }),
        ),
    }
}
