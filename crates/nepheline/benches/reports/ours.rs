//! The reports as a program that uses Nepheline writes them. Those with a second form have the two that are written by
//! hand; as there, the faster counts.

use std::sync::LazyLock;

use nepheline::prelude::*;
use nepheline::{Explainable, Readable, TruncUnit};
use nepheline_coreshed::{Analyst, Assay, Borehole, InvoiceLine, Lab, Rock, Site, Specimen};

use crate::cells::{IntoCell, IntoLine};
use crate::world;

/// Something to do with a report's query.
pub(crate) trait Asks {
    type Answer;

    fn ask<Q>(&self, query: &Q) -> Self::Answer
    where
        Q: Readable<Row: IntoLine> + Explainable;
}

impl IntoCell for Rock {
    fn into_cell(self) -> crate::cells::Cell {
        let name = format!("{self:?}").to_lowercase();
        crate::cells::Cell::Text(name.replace("nephelinesyenite", "nepheline syenite"))
    }
}

#[derive(Debug, BindParameters)]
struct OfKeys {
    keys: Vec<i64>,
}

type NumberAndSum = Query<Assay, (i64, Option<f64>), PerGroup>;

/// The second form of the lists is prepared, as those by hand are.
static OF_KEYS: LazyLock<Prepared<OfKeys, NumberAndSum>> = LazyLock::new(|| {
    OfKeys::prepare(|p| {
        Assay::rows()
            .filter(|a| a.specimen_id.one_of(p.keys))
            .select(|a| (count(), sum(a.ppm)))
    })
});

#[derive(Debug, RowShape)]
struct OfBorehole {
    borehole_id: i64,
    year: Option<i32>,
}

#[derive(Debug, RowShape)]
struct MeanOfBorehole {
    borehole_id: i64,
    mean: Option<f64>,
}

#[derive(Debug, RowShape)]
struct OfSite {
    site_id: i64,
    rows: i64,
}

#[derive(Debug, RowShape)]
struct BoreholeId {
    borehole_id: i64,
}

#[derive(Debug, RowShape)]
struct MetresOfBorehole {
    borehole_id: i64,
    site_id: i64,
    metres: Option<f64>,
}

#[derive(Debug, RowShape)]
struct MeanOfSite {
    site_id: i64,
    mean: Option<f64>,
}

#[derive(Debug, RowShape)]
struct MetresAndMean {
    site_id: i64,
    metres: Option<f64>,
    mean: Option<f64>,
}

#[derive(Debug, RowShape)]
struct OfLab {
    lab_id: i64,
    assays: i64,
    late: i64,
    mean: Option<f64>,
}

#[derive(Debug, RowShape)]
struct OfAnalyst {
    analyst_id: Option<i64>,
    specimens: i64,
}

#[derive(Debug, RowShape)]
struct OfMonth {
    month: Date,
    specimens: i64,
}

#[derive(Debug, RowShape)]
struct CountsOfSite {
    site_id: i64,
    taken: Option<i64>,
    open: Option<i64>,
}

#[derive(Debug, RowShape)]
struct OfService {
    service: String,
    discount: Decimal,
    billed: Option<Decimal>,
}

/// Asks a report in one of its forms, 0 or 1. `None` if it has no second one.
pub(crate) fn ask<A: Asks>(name: &str, form: usize, asks: &A) -> Option<A::Answer> {
    let answer = match (name, form) {
        ("star", 0) => asks.ask(
            &Assay::rows()
                .filter(|a| a.element.eq("Nd") & a.lab().accredited.eq(true))
                .filter(|a| a.specimen().taken_on.ge(date(2019, 1, 1)))
                .select(|a| {
                    let region = per(a.specimen().borehole().site().region);
                    (region, per(a.specimen().rock), count(), avg(a.ppm))
                })
                .order_by_selected(|(region, rock, ..)| (region.asc(), rock.asc())),
        ),
        ("shares", 0) => asks.ask(
            &Specimen::rows()
                .select(|s| {
                    let region = per(s.borehole().site().region);
                    let of_region = sum(count()).over_groups(|w| w.partition_by(region.clone()));
                    (region.clone(), per(s.rock), count(), (count() * 100) / of_region)
                })
                .order_by_selected(|(region, rock, ..)| (region.asc(), rock.asc())),
        ),
        ("subtotals", 0) => asks.ask(
            &Specimen::rows()
                .select(|s| {
                    let region = rollup(s.borehole().site().region);
                    (region, rollup(s.rock), count(), sum(s.base_m - s.top_m))
                })
                .order_by_selected(|(region, rock, ..)| (region.asc(), rock.asc())),
        ),
        ("top", 0) => asks.ask(
            &Specimen::rows()
                .filter(|s| s.borehole().drilled_on.ge(date(2023, 1, 1)))
                .order_by(|s| (s.base_m.desc(), s.id.asc()))
                .limit_each(2, |s| s.borehole_id)
                .select(|s| (s.label, s.base_m)),
        ),
        ("cohorts", 0) => {
            let first = cte(Specimen::rows().select(|s| {
                shape!(OfBorehole { borehole_id: per(s.borehole_id), year: min(s.taken_on.year()) })
            }));
            asks.ask(
                &Specimen::rows()
                    .join(|s| first.rows().filter(|f| f.borehole_id.eq(s.borehole_id)))
                    .select(|(s, f)| {
                        let after = s.taken_on.year() - f.year;
                        (per(f.year), per(after), count_distinct(s.borehole_id), count())
                    })
                    .order_by_selected(|(year, after, ..)| (year.asc(), after.asc())),
            )
        }
        ("full join", 0) => {
            let taken = Specimen::rows()
                .filter(|s| s.taken_on.ge(date(2024, 1, 1)))
                .select(|s| shape!(OfSite { site_id: per(s.borehole().site_id), rows: count() }));
            let open = from(
                Assay::rows()
                    .filter(|a| a.reported_on.is_null())
                    .select(|a| {
                        shape!(OfSite {
                            site_id: per(a.specimen().borehole().site_id),
                            rows: count()
                        })
                    }),
            );
            asks.ask(
                &from(taken)
                    .full_join(|taken| open.filter(|o| o.site_id.eq(taken.site_id)))
                    .select(|(taken, open)| {
                        let site = coalesce((taken.map(|t| t.site_id), open.map(|o| o.site_id)));
                        (site, taken.map(|t| t.rows), open.map(|o| o.rows))
                    })
                    .order_by_selected(|(site, ..)| site.asc()),
            )
        }
        ("full join", 1) => {
            let taken = Specimen::rows()
                .filter(|s| s.taken_on.ge(date(2024, 1, 1)))
                .select(|s| {
                    shape!(CountsOfSite {
                        site_id: per(s.borehole().site_id),
                        taken: count(),
                        open: None
                    })
                });
            let open = Assay::rows()
                .filter(|a| a.reported_on.is_null())
                .select(|a| {
                    let site = per(a.specimen().borehole().site_id);
                    shape!(CountsOfSite { site_id: site, taken: None, open: count() })
                });
            asks.ask(
                &taken
                    .union_all(open)
                    .select(|q| (per(q.site_id), max(q.taken), max(q.open)))
                    .order_by_selected(|(site, ..)| site.asc()),
            )
        }
        ("above the mean", 0) => asks.ask(
            &Specimen::rows()
                .filter(|s| {
                    (s.base_m - s.top_m).gt(s.borehole().specimens().avg(|o| o.base_m - o.top_m))
                })
                .select(|s| (per(s.rock), count()))
                .order_by_selected(|(rock, _)| rock.asc()),
        ),
        ("above the mean", 1) => {
            let means = from(Specimen::rows().select(|s| {
                shape!(MeanOfBorehole {
                    borehole_id: per(s.borehole_id),
                    mean: avg(s.base_m - s.top_m)
                })
            }));
            asks.ask(
                &Specimen::rows()
                    .join(|s| means.filter(|m| m.borehole_id.eq(s.borehole_id)))
                    .filter(|(s, m)| (s.base_m - s.top_m).gt(m.mean))
                    .select(|(s, _)| (per(s.rock), count()))
                    .order_by_selected(|(rock, _)| rock.asc()),
            )
        }
        ("exists", 0) => asks.ask(
            &Specimen::rows()
                .filter(|s| s.assays().any(|a| a.element.eq("Nd") & a.ppm.gt(500)))
                .select(|s| (per(s.rock), count()))
                .order_by_selected(|(rock, _)| rock.asc()),
        ),
        ("exists", 1) => asks.ask(
            &Specimen::rows()
                .filter(|s| {
                    let rich = Assay::rows().filter(|a| a.element.eq("Nd") & a.ppm.gt(500));
                    s.id.one_of(rich.select(|a| a.specimen_id))
                })
                .select(|s| (per(s.rock), count()))
                .order_by_selected(|(rock, _)| rock.asc()),
        ),
        ("not exists", 0) => asks.ask(
            &Specimen::rows()
                .filter(|s| {
                    let poor = s.assays().filter(|a| a.element.eq("U") & a.ppm.lt(10));
                    poor.filter(|a| a.reported_on.is_not_null()).not_exists()
                })
                .select(|s| (per(s.rock), count()))
                .order_by_selected(|(rock, _)| rock.asc()),
        ),
        ("exists in not exists", 0) => asks.ask(
            &Borehole::rows()
                .filter(|b| {
                    let granites = b.specimens().filter(|s| s.rock.eq(Rock::Granite));
                    granites.any(|s| s.assays().filter(|a| a.reported_on.is_null()).not_exists())
                })
                .select(|b| (per(b.rig), count()))
                .order_by_selected(|(rig, _)| rig.asc()),
        ),
        ("grandchildren", 0) => asks.ask(
            &Borehole::rows()
                .filter(|b| b.drilled_on.ge(date(2023, 1, 1)))
                .order_by(|b| b.id.asc())
                .select(|b| (b.id, b.specimens().flat_map(|s| s.assays()).sum(|a| a.ppm))),
        ),
        ("difference", 0) => {
            let of_rock = |rock: Rock| {
                let of_rock = Specimen::rows().filter(|s| s.rock.eq(rock));
                of_rock.select(|s| shape!(BoreholeId { borehole_id: s.borehole_id }))
            };
            asks.ask(
                &of_rock(Rock::Granite)
                    .except(of_rock(Rock::Basalt))
                    .select(|_| (count(),)),
            )
        }
        ("difference", 1) => {
            let granite_only = Specimen::rows()
                .filter(|s| s.rock.one_of([Rock::Granite, Rock::Basalt]))
                .select(|s| shape!(BoreholeId { borehole_id: per(s.borehole_id) }))
                .having(|s| any_true(s.rock.eq(Rock::Basalt)).eq(false));
            asks.ask(&from(granite_only).select(|_| (count(),)))
        }
        ("running total", 0) => asks.ask(
            &Specimen::rows()
                .select(|s| {
                    let (year, month) = (per(s.taken_on.year()), per(s.taken_on.month()));
                    let so_far = sum(count()).over_groups(|w| {
                        w.order_by((year.clone().asc(), month.clone().asc()))
                            .rows(..=0)
                    });
                    (year, month, count(), so_far)
                })
                .order_by_selected(|(year, month, ..)| (year.asc(), month.asc())),
        ),
        ("running total", 1) => {
            let of_months = from(Specimen::rows().select(|s| {
                let month = per(s.taken_on.date_trunc(TruncUnit::Month));
                shape!(OfMonth { month, specimens: count() })
            }));
            asks.ask(&of_months.order_by(|m| m.month.asc()).select(|m| {
                let so_far = sum(m.specimens).over(|w| w.order_by(m.month.asc()).rows(..=0));
                (m.month.year(), m.month.month(), m.specimens, so_far)
            }))
        }
        ("two CTEs", 0) => {
            let metres = cte(Specimen::rows().select(|s| {
                shape!(MetresOfBorehole {
                    borehole_id: per(s.borehole().id),
                    site_id: per(s.borehole().site_id),
                    metres: sum(s.base_m - s.top_m),
                })
            }));
            let means = cte(metres
                .rows()
                .select(|m| shape!(MeanOfSite { site_id: per(m.site_id), mean: avg(m.metres) })));
            asks.ask(
                &metres
                    .rows()
                    .join(|m| means.rows().filter(|mean| mean.site_id.eq(m.site_id)))
                    .filter(|(m, mean)| m.metres.gt(mean.mean * 1.1))
                    .join(|(m, _)| Site::rows().filter(|site| site.id.eq(m.site_id)))
                    .select(|(_, _, site)| (per(site.region), count()))
                    .order_by_selected(|(region, _)| region.asc()),
            )
        }
        ("two CTEs", 1) => {
            let metres = from(
                Specimen::rows()
                    .select(|s| {
                        let site = per(s.borehole().site_id);
                        let metres = sum(s.base_m - s.top_m);
                        shape!(MetresAndMean {
                            site_id: site.clone(),
                            metres: metres.clone(),
                            mean: avg(metres).over_groups(|w| w.partition_by(site)),
                        })
                    })
                    .group_by(|s| s.borehole().id),
            );
            asks.ask(
                &metres
                    .filter(|m| m.metres.gt(m.mean * 1.1))
                    .join(|m| Site::rows().filter(|site| site.id.eq(m.site_id)))
                    .select(|(_, site)| (per(site.region), count()))
                    .order_by_selected(|(region, _)| region.asc()),
            )
        }
        ("conditional counts", 0) => asks.ask(
            &Assay::rows()
                .select(|a| {
                    let late =
                        count().filter(a.reported_on.is_null() & a.due_on.lt(date(2025, 1, 1)));
                    (per(a.lab().name), count(), late, avg(a.ppm).filter(a.element.eq("Nd")))
                })
                .order_by_selected(|(lab, ..)| lab.asc()),
        ),
        ("conditional counts", 1) => {
            let of_labs = from(Assay::rows().select(|a| {
                shape!(OfLab {
                    lab_id: per(a.lab_id),
                    assays: count(),
                    late: count().filter(a.reported_on.is_null() & a.due_on.lt(date(2025, 1, 1))),
                    mean: avg(a.ppm).filter(a.element.eq("Nd")),
                })
            }));
            asks.ask(
                &of_labs
                    .join(|q| Lab::rows().filter(|l| l.id.eq(q.lab_id)))
                    .select(|(q, l)| (l.name, q.assays, q.late, q.mean))
                    .order_by_selected(|(lab, ..)| lab.asc()),
            )
        }
        ("with nobody", 0) => asks.ask(
            &Specimen::rows()
                .select(|s| (per_parent(s.analyst()).map(|a| a.name), count()))
                .order_by(|s| {
                    let analyst = per_parent(s.analyst());
                    (analyst.map(|a| a.name).asc(), analyst.map(|a| a.id).asc())
                }),
        ),
        ("with nobody", 1) => {
            let of_analysts = from(Specimen::rows().select(|s| {
                shape!(OfAnalyst { analyst_id: per(s.analyst_id), specimens: count() })
            }));
            asks.ask(
                &of_analysts
                    .left_join(|q| Analyst::rows().filter(|a| q.analyst_id.eq(a.id)))
                    .order_by(|(_, a)| (a.map(|a| a.name).asc(), a.map(|a| a.id).asc()))
                    .select(|(q, a)| (a.map(|a| a.name), q.specimens)),
            )
        }
        ("parents", 0) => asks.ask(
            &Specimen::rows()
                .filter(|s| s.borehole().site().region.eq("Upper Tarn") & s.rock.eq(Rock::Granite))
                .order_by(|s| (s.base_m.desc(), s.id.asc()))
                .limit(100)
                .select(|s| {
                    let analyst = s.analyst().map(|a| a.name);
                    (s.label, s.borehole().name, s.borehole().site().name, analyst)
                }),
        ),
        ("money", 0) => asks.ask(
            &InvoiceLine::rows()
                .select(|l| {
                    let discounted =
                        l.quantity * l.unit_price * (bind(Decimal::ONE) - l.invoice().discount);
                    (per(l.service), sum(discounted * (bind(Decimal::ONE) + l.tax_rate)))
                })
                .order_by_selected(|(service, _)| service.asc()),
        ),
        ("money", 1) => {
            let of_services = from(InvoiceLine::rows().select(|l| {
                shape!(OfService {
                    service: per(l.service),
                    discount: per(l.invoice().discount),
                    billed: sum(l.quantity * l.unit_price * (bind(Decimal::ONE) + l.tax_rate)),
                })
            }));
            asks.ask(
                &of_services
                    .select(|q| (per(q.service), sum(q.billed * (bind(Decimal::ONE) - q.discount))))
                    .order_by_selected(|(service, _)| service.asc()),
            )
        }
        (list, 0) if list.starts_with("list of ") => {
            let keys = world::keys(list[8..].replace(',', "").parse().unwrap());
            asks.ask(
                &Assay::rows()
                    .filter(|a| a.specimen_id.one_of(keys))
                    .select(|a| (count(), sum(a.ppm))),
            )
        }
        (list, 1) if list.starts_with("list of ") => {
            let keys = world::keys(list[8..].replace(',', "").parse().unwrap());
            asks.ask(&OF_KEYS.bind(OfKeys { keys }))
        }
        (_, 0) => panic!("{name}: no such report"),
        _ => return None,
    };
    Some(answer)
}
