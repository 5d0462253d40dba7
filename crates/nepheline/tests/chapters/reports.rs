//! The chapter on reports: star joins, shares, ranks, periods, cohorts, full joins, running totals and subtotals.

use nepheline::TruncUnit;
use nepheline::prelude::*;
use nepheline_coreshed::{Assay, Borehole, Invoice, InvoiceLine, Specimen};

use crate::support::chapter::Chapter;

#[derive(Debug, Clone, PartialEq, RowShape)]
struct RegionRock {
    region: String,
    rock: String,
    specimens: i64,
    percent: Option<i64>,
    place: i64,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct LabAssays {
    lab_id: i64,
    assays: i64,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct LabBills {
    lab_id: i64,
    billed: Option<Decimal>,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct FirstMonth {
    lab_id: i64,
    first: Option<Date>,
}

#[test]
fn reports() {
    let mut chapter = Chapter::new(
        include_str!("reports.rs"),
        r#"
# Reports

Questions over many rows: totals by what parents say, shares, ranks, periods, cohorts, subtotals. A test writes this page. It runs
each report on SQLite, PostgreSQL and MariaDB and requires equal rows.

- **Group by a parent**: `per(s.borehole().site().region)` is a key over a join. `per_parent(s.borehole())` groups by the row itself, so
  that two parents with one name stay apart, and shows its columns with `map`.
- **Windows over groups**: `sum(sum(x)).over_groups(|w| w)` is the total of all groups beside each, `rank().over_groups(..)` its place,
  `lag(sum(x), 1).over_groups(..)` the group before.
- **Order by what is selected**: `order_by_selected` names the selected values, so that none is written twice.
- **Beside groups** stands a key, a total, or a value that no row changes: `bind(2026).per_group()`, `literal!("all").per_group()`,
  `query.value().per_group()`.
- **Subtotals**: `rollup(key)` adds a row for all values of the key; `is_subtotal(rollup(key))` tells it from the group of NULL.
- **Rows that must exist**: `s.analyst().required()` keeps only rows with that parent, by an INNER JOIN.
- **Constants**: `literal!("Nd")` writes a constant of the program into the SQL, where an engine plans better with it than with a bind.
"#,
    );

    chapter.section("Star joins and shares");
    ask!(
        &mut chapter,
        "The specimens that each agency has of each rock, in the regions of its sites:",
        Specimen::rows()
            .filter(|s| s.top_m.lt(40))
            .select(|s| {
                let site = s.borehole().site();
                (per(site.agency().name), per(site.region), per(s.rock.cast::<String>()), count())
            })
            .order_by_selected(|(agency, region, rock, specimens)| {
                (specimens.desc(), agency.asc(), region.asc(), rock.asc())
            })
            .limit(8),
    );
    ask!(
        &mut chapter,
        "The share of each service in what was billed, to four digits, and its place:",
        InvoiceLine::rows()
            .select(|l| {
                let billed = sum(l.quantity * l.unit_price);
                let all = sum(billed.clone()).over_groups(|w| w);
                let place = rank().over_groups(|w| w.order_by(billed.clone().desc()));
                (per(l.service), billed.clone(), billed.divided_by(all, 4), place)
            })
            .order_by_selected(|(service, _, _, place)| (place.asc(), service.asc())),
    );

    chapter.section("The top of each group");
    ask!(
        &mut chapter,
        "The two deepest specimens of each of three boreholes:",
        Specimen::rows()
            .filter(|s| s.borehole_id.le(3))
            .order_by(|s| (s.base_m.desc(), s.id.asc()))
            .limit_each(2, |s| s.borehole_id)
            .select(|s| (s.borehole().name, s.label)),
    );
    ask!(
        &mut chapter,
        "The most frequent rock of each region, with its share there in percent:",
        from(Specimen::rows().select(|s| {
            let region = per(s.borehole().site().region);
            let specimens = count();
            let of_region = |w: nepheline::Over<PerGroup>| w.partition_by(region.clone());
            shape!(RegionRock {
                region: region.clone(),
                rock: per(s.rock.cast::<String>()),
                specimens: specimens.clone(),
                percent: (specimens.clone() * 100) / sum(specimens.clone()).over_groups(of_region),
                place: row_number().over_groups(|w| {
                    of_region(w).order_by((specimens.desc(), per(s.rock.cast::<String>()).asc()))
                }),
            })
        }))
        .filter(|r| r.place.eq(1))
        .order_by(|r| r.region.asc()),
    );

    chapter.section("Periods");
    ask!(
        &mut chapter,
        "The specimens taken in each quarter of 2023 and 2024, beside the quarter before, and all so far:",
        Specimen::rows()
            .filter(|s| s.taken_on.within(date(2023, 1, 1)..date(2025, 1, 1)))
            .select(|s| {
                let (year, quarter) = (per(s.taken_on.year()), per(s.taken_on.quarter()));
                let in_order = |w: nepheline::Over<PerGroup>| {
                    w.order_by((per(s.taken_on.year()).asc(), per(s.taken_on.quarter()).asc()))
                };
                (
                    year,
                    quarter,
                    count(),
                    lag(count(), 1).over_groups(in_order),
                    sum(count()).over_groups(|w| in_order(w).rows(..=0)),
                )
            })
            .order_by_selected(|(year, quarter, ..)| (year.asc(), quarter.asc())),
    );
    ask!(
        &mut chapter,
        "The sum billed in each month, and in its year so far:",
        InvoiceLine::rows()
            .select(|l| {
                let billed = sum(l.quantity * l.unit_price);
                let month = per(l.invoice().issued_on.date_trunc(TruncUnit::Month));
                let so_far = sum(billed.clone()).over_groups(|w| {
                    let of_year = w.partition_by(per(l.invoice().issued_on.year()));
                    of_year.order_by(month.clone().asc()).rows(..=0)
                });
                (month.clone(), billed, so_far)
            })
            .group_by(|l| l.invoice().issued_on.year())
            .order_by_selected(|(month, ..)| month.asc())
            .limit(6),
    );

    chapter.section("Cohorts");
    ask!(
        &mut chapter,
        "The labs by the month of their first invoice, and the invoices that they wrote in each month after it:",
        {
            let first = cte(Invoice::rows().select(|i| {
                shape!(FirstMonth {
                    lab_id: per(i.lab_id),
                    first: min(i.issued_on.date_trunc(TruncUnit::Month)),
                })
            }))
            .called("first_invoice");
            Invoice::rows()
                .join(move |i| first.rows().filter(|f| f.lab_id.eq(i.lab_id)))
                .select(|(i, f)| {
                    let first = f.first.coalesce(i.issued_on);
                    let months = (i.issued_on.year() - first.clone().year()) * 12
                        + (i.issued_on.month() - first.clone().month());
                    (per(first), per(months), count_distinct(i.lab_id), count())
                })
                .order_by_selected(|(first, months, ..)| (first.asc(), months.asc()))
                .limit(8)
        },
    );

    chapter.section("Two sources side by side");
    ask!(
        &mut chapter,
        "The labs that made assays beside the labs that wrote invoices; one may be missing:",
        {
            let made = Assay::rows()
                .filter(|a| a.element.eq(literal!("Nd")) & a.lab_id.ne(2))
                .select(|a| shape!(LabAssays { lab_id: per(a.lab_id), assays: count() }));
            let billed = from(
                InvoiceLine::rows()
                    .filter(|l| l.invoice().lab_id.ne(1))
                    .select(|l| {
                        shape!(LabBills {
                            lab_id: per(l.invoice().lab_id),
                            billed: sum(l.quantity * l.unit_price),
                        })
                    }),
            );
            from(made)
                .full_join(|made| billed.filter(|b| b.lab_id.eq(made.lab_id)))
                .order_by(|(made, billed)| {
                    (made.map(|m| m.lab_id).asc(), billed.map(|b| b.lab_id).asc())
                })
        },
    );
    ask!(
        &mut chapter,
        "The labs with more invoices than lab 2, and the number of that:",
        Invoice::rows()
            .select(|i| {
                let of_two = Invoice::rows()
                    .filter(|i| i.lab_id.eq(2))
                    .select(|_| count());
                (per_parent(i.lab()).map(|l| l.name), count(), of_two.value().per_group())
            })
            .having(|_| {
                let of_two = Invoice::rows()
                    .filter(|i| i.lab_id.eq(2))
                    .select(|_| count());
                count().gt(of_two.value().per_group())
            })
            .order_by_selected(|(name, ..)| name.asc()),
    );

    chapter.section("Parents and subtotals");
    ask!(
        &mut chapter,
        "The four boreholes with most specimens, as whole rows:",
        Specimen::rows()
            .select(|s| (per_parent(s.borehole()), count()))
            .order_by(|s| (count().desc(), per_parent(s.borehole()).map(|b| b.id).asc()))
            .limit(4),
    );
    ask!(
        &mut chapter,
        "The specimens that each analyst described in each of two regions, of nobody, and the subtotals:",
        Specimen::rows()
            .filter(|s| s
                .borehole()
                .site()
                .region
                .one_of(["Upper Tarn", "Lower Tarn"]))
            .select(|s| {
                let (region, analyst) = (rollup(s.borehole().site().region), rollup(s.analyst_id));
                (region, analyst.clone(), is_subtotal(analyst), count())
            })
            .order_by_selected(|(region, analyst, is_all, _)| (
                region.asc(),
                is_all.asc(),
                analyst.asc()
            )),
    );
    ask!(
        &mut chapter,
        "The specimens that somebody described, and whose part was described by somebody else:",
        Specimen::rows()
            .filter(|s| s
                .parent()
                .required()
                .analyst()
                .required()
                .id
                .ne(s.analyst().required().id))
            .order_by(|s| s.id.asc())
            .select(|s| {
                let parent = s.parent().required();
                (s.label, s.analyst().required().name, parent.analyst().required().name)
            })
            .limit(4),
    );
    ask!(
        &mut chapter,
        "The boreholes of each year, and the specimens of them all:",
        Borehole::rows()
            .select(|b| (per(b.drilled_on.year()), count(), sum(b.specimens().count())))
            .order_by_selected(|(year, ..)| year.asc()),
    );
    chapter.finish("reports.md");
}
