//! Groups, windows, recursion and pages.

use anyhow::Result;
use nepheline::prelude::*;
use nepheline::{Paging, StatementLog, recursive};
use nepheline_coreshed::scopes::deeper_than;
use nepheline_coreshed::{Assay, Borehole, Invoice, InvoiceLine, Specimen};

use crate::tour::Tour;
use crate::tour::rows::or_null;

#[derive(Debug, RowShape)]
struct RegionTotal {
    region: String,
    specimens: i64,
    unassigned: i64,
    deepest_m: Option<f64>,
}

pub(super) fn totals(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Specimen::rows()
        .filter(deeper_than(50.0))
        .select(|s| {
            shape!(RegionTotal {
                region: per(s.borehole().site().region),
                specimens: count(),
                unassigned: count().filter(s.analyst_id.is_null()),
                deepest_m: max(s.base_m),
            })
        })
        .having(|_| count().gt(100))
        .order_by(|s| (count().desc(), per(s.borehole().site().region).asc()));
    // until here
    tour.show(&query)?;
    let headings = ["region", "specimens", "unassigned", "deepest_m"];
    tour.values(&headings, &query, |total| {
        let RegionTotal { region, specimens, unassigned, deepest_m } = total;
        vec![region, specimens.to_string(), unassigned.to_string(), or_null(deepest_m)]
    })
}

pub(super) fn shares(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Specimen::rows()
        .select(|s| {
            let all = sum(count()).over_groups(|w| w);
            let place = rank().over_groups(|w| w.order_by(count().desc()));
            (per(s.borehole().site().region), count(), (count() * 100) / all, place)
        })
        .order_by_selected(|(region, _, _, place)| (place.asc(), region.asc()));
    // until here
    tour.show(&query)?;
    let headings = ["region", "specimens", "percent", "place"];
    tour.values(&headings, &query, |(region, specimens, percent, place)| {
        vec![region, specimens.to_string(), or_null(percent), place.to_string()]
    })
}

pub(super) fn subtotals(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Specimen::rows()
        .filter(|s| {
            s.borehole()
                .site()
                .region
                .one_of(["Sablemoor", "Upper Tarn"])
        })
        .select(|s| {
            let region = rollup(s.borehole().site().region);
            let described = s.analyst().is_some();
            let analyst = rollup(s.analyst().map(|a| a.name));
            let is_all = is_subtotal(analyst.clone());
            (region, analyst, is_all, count(), count().filter(!described))
        })
        .order_by_selected(|(region, analyst, is_all, ..)| {
            (region.asc(), is_all.asc(), analyst.asc())
        });
    // until here
    tour.show(&query)?;
    let headings = ["region", "analyst", "is subtotal", "specimens", "of nobody"];
    tour.values(&headings, &query, |(region, analyst, is_all, specimens, of_nobody)| {
        let values = [is_all.to_string(), specimens.to_string(), of_nobody.to_string()];
        [or_null(region), or_null(analyst)]
            .into_iter()
            .chain(values)
            .collect()
    })
}

pub(super) fn side_by_side(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let analysed = from(
        Assay::rows()
            .filter(|a| a.element.eq(literal!("Nd")) & a.lab_id.ne(2))
            .select(|a| shape!(LabCount { lab_id: per(a.lab_id), rows: count() })),
    );
    let billed = from(
        Invoice::rows()
            .filter(|i| i.lab_id.ne(1))
            .select(|i| shape!(LabCount { lab_id: per(i.lab_id), rows: count() })),
    );
    let query = analysed
        .full_join(|a| billed.filter(|b| b.lab_id.eq(a.lab_id)))
        .order_by(|(a, b)| a.map(|a| a.lab_id).coalesce(b.map(|b| b.lab_id)).asc());
    // until here
    tour.show(&query)?;
    let headings = ["lab of assays", "assays", "lab of invoices", "invoices"];
    tour.values(&headings, &query, |(analysed, billed)| {
        let sides = [analysed, billed].into_iter();
        let cells = |side: Option<LabCount>| {
            let side = side.map(|side| [side.lab_id, side.rows]);
            [0, 1].map(|place| or_null(side.map(|side| side[place])))
        };
        sides.flat_map(cells).collect()
    })
}

#[derive(Debug, RowShape)]
struct LabCount {
    lab_id: i64,
    rows: i64,
}

pub(super) fn windows(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Specimen::rows()
        .filter(|s| s.borehole().name.eq("LM-1"))
        .order_by(|s| (s.taken_on.asc(), s.id.asc()))
        .select(|s| {
            (
                s.label,
                s.taken_on,
                row_number().over(|w| w.order_by((s.taken_on.asc(), s.id.asc()))),
                rank().over(|w| w.partition_by(s.rock).order_by(s.top_m.desc())),
                max(s.base_m).over(|w| w.order_by((s.taken_on.asc(), s.id.asc())).rows(..=0)),
            )
        });
    // until here
    tour.show(&query)?;
    let headings = ["label", "taken_on", "number", "rank by depth in its rock", "deepest by then"];
    tour.values(&headings, &query, |(label, taken_on, number, rank, deepest)| {
        vec![label, taken_on.to_string(), number.to_string(), rank.to_string(), or_null(deepest)]
    })
}

#[derive(Debug, Clone, RowShape)]
struct Billed {
    #[nepheline(by_code_point)]
    lab: String,
    net: Option<Decimal>,
    gross: Option<Decimal>,
}

pub(super) fn money(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let per_lab = InvoiceLine::rows().select(|l| {
        let net = (l.quantity * l.unit_price * (1 - l.invoice().discount)).round(2);
        let tax = (net.clone() * l.tax_rate).round(2);
        shape!(Billed {
            lab: per(l.invoice().lab().name),
            net: sum(net.clone()),
            gross: sum(net + tax),
        })
    });
    let query = from(per_lab)
        .order_by(|b| b.gross.desc())
        .select(|b| (b.lab, b.net, b.gross, b.gross.divided_by(sum(b.gross).over(|w| w), 4)));
    // until here
    tour.show(&query)?;
    tour.values(&["lab", "net", "gross", "share"], &query, |(lab, net, gross, share)| {
        vec![lab, or_null(net), or_null(gross), or_null(share)]
    })
}

pub(super) fn first_of_each(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let query = Specimen::rows()
        .order_by(|s| (s.taken_on.desc(), s.id.asc()))
        .limit_each(1, |s| s.rock)
        .select(|s| (s.rock, s.label, s.taken_on));
    // until here
    tour.show(&query)?;
    tour.values(&["rock", "label", "taken_on"], &query, |(rock, label, taken_on)| {
        vec![format!("{rock:?}"), label, taken_on.to_string()]
    })
}

#[derive(Debug, RowShape)]
struct Part {
    id: i64,
    #[nepheline(by_code_point)]
    label: String,
    level: i64,
}

pub(super) fn recursion(tour: &mut Tour<'_>) -> Result<()> {
    // shown
    let whole = Specimen::rows()
        .filter(|s| s.id.one_of([4, 44]))
        .select(|s| shape!(Part { id: s.id, label: s.label, level: bind(0_i64) }));
    let query = recursive(whole, 20, |before| {
        Specimen::rows()
            .join(|s| before.filter(|b| s.parent_id.eq(b.id)))
            .select(|(s, b)| shape!(Part { id: s.id, label: s.label, level: b.level + 1 }))
    })
    .order_by(|p| (p.level.asc(), p.label.asc()));
    // until here
    tour.show(&query)?;
    tour.values(&["id", "label", "level"], &query, |part| {
        vec![part.id.to_string(), part.label, part.level.to_string()]
    })
}

pub(super) fn pages(tour: &mut Tour<'_>) -> Result<()> {
    let log = StatementLog::new();
    let db = tour.db.logging_to(&log);
    // shown
    let query = Borehole::rows().order_by(|b| (b.drilled_on.desc(), b.name.asc()));
    let page = db.read_page(&query, Paging::page_size(5).page(3))?;
    let first = db.read_after(&query, None, 5)?;
    let second = db.read_after(&query, first.after(), 5)?;
    let back = db.read_before(&query, second.before(), 5)?;
    // until here
    tour.show(&query)?;
    let names = |rows: &[Borehole]| {
        let names: Vec<_> = rows.iter().map(|b| b.name.as_str()).collect();
        names.join(", ")
    };
    let (number, pages, rows) = (page.number(), page.total_pages(), page.total_rows());
    tour.note(&format!("page {number} of {pages}, {rows} rows: {}", names(page.rows())))?;
    tour.note(&format!("the first five: {}", names(first.rows())))?;
    tour.note(&format!("the five after them: {}", names(second.rows())))?;
    let same = back.rows() == first.rows();
    let answer = if same { "back again: the same" } else { "back again: others" };
    tour.note(&format!("{answer}; {} statements ran", log.len()))
}
