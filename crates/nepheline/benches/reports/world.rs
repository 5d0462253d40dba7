//! The core shed, a hundred times as large: 60,000 specimens with 300,000 assays.
//!
//! Each copy of a row has its own key and slightly different measurements. Agencies, labs, analysts and hazards are
//! not copied.

use nepheline::Dialect;
use nepheline::blocking::Database;
use nepheline::internal::BlockingRunText as _;

const COPIES: i64 = 100;

/// The distance of the keys of two copies.
const APART: i64 = 10_000;

/// The tables that grow, parents first: the name, the columns, and the values of a copy.
const GROWING: [(&str, &str, &str); 6] = [
    (
        "site",
        "id, agency_id, name, region, closed_on",
        "id + {by}, agency_id, concat(name, ' ', i), region, closed_on",
    ),
    (
        "borehole",
        "id, site_id, name, depth_m, drilled_on, rig",
        "id + {by}, site_id + {by}, concat(name, '/', i), depth_m + i * 0.01, drilled_on, rig",
    ),
    (
        "specimen",
        "id, borehole_id, label, rock, top_m, base_m, taken_on, analyst_id, parent_id, withdrawn_at",
        "id + {by}, borehole_id + {by}, concat(label, '/', i), rock, top_m + i * 0.01, base_m + i * 0.01, taken_on, \
         analyst_id, parent_id + {by}, withdrawn_at",
    ),
    (
        "assay",
        "id, specimen_id, element, ppm, lab_id, due_on, reported_on",
        "id + {by}, specimen_id + {by}, element, ppm * (1 + i * 0.001), lab_id, due_on, reported_on",
    ),
    (
        "invoice",
        "id, number, lab_id, agency_id, issued_on, paid_on, discount",
        "id + {by}, concat(number, '/', i), lab_id, agency_id, issued_on, paid_on, discount",
    ),
    (
        "invoice_line",
        "id, invoice_id, service, quantity, unit_price, tax_rate",
        "id + {by}, invoice_id + {by}, service, quantity, unit_price, tax_rate",
    ),
];

/// Makes the large core shed, in place of one that the database has.
pub(crate) fn make(db: &Database) {
    let run = |sql: &str| db.run_text(sql, Vec::new()).unwrap();
    nepheline_coreshed::drop_tables(db);
    nepheline_coreshed::load(db).unwrap();
    for (table, columns, copy) in GROWING {
        let copy = copy.replace("{by}", &format!("i * {APART}"));
        run(&format!(
            "INSERT INTO {table} ({columns}) WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n \
             WHERE i < {}) SELECT {copy} FROM n CROSS JOIN {table} ORDER BY i, id",
            COPIES - 1
        ));
    }
    let tables = "agency, site, borehole, analyst, specimen, lab, assay, invoice, invoice_line";
    match db.dialect() {
        Dialect::Sqlite => run("ANALYZE"),
        Dialect::Postgres => run(&format!("VACUUM ANALYZE {tables}")),
        _ => run(&format!("ANALYZE TABLE {tables}")),
    };
}

/// The keys of this many specimens, scattered over all copies.
pub(crate) fn keys(number: i64) -> Vec<i64> {
    (0..number)
        .map(|n| n * 7 % COPIES * APART + 1 + n * 11 % 599)
        .collect()
}
