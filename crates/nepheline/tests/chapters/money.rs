//! The chapter on exact numbers: prices, discounts, taxes, shares and averages.

use nepheline::TruncUnit;
use nepheline::prelude::*;
use nepheline_coreshed::{Invoice, InvoiceLine};

use crate::support::chapter::Chapter;

#[derive(Debug, Clone, PartialEq, RowShape)]
struct LabTotal {
    #[nepheline(by_code_point)]
    lab: String,
    billed: Option<Decimal>,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct MonthTotal {
    month: Date,
    billed: Option<Decimal>,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Priced {
    number: String,
    service: String,
    unit_price: Decimal,
    usual: Option<Decimal>,
}

#[test]
fn money() {
    let mut chapter = Chapter::new(
        include_str!("money.rs"),
        r#"
# Money

Exact numbers are `rust_decimal::Decimal`: numeric on PostgreSQL, DECIMAL on MariaDB and MySQL, TEXT or INTEGER on SQLite. A test
writes this page. It runs each report on SQLite, PostgreSQL and MariaDB and requires equal rows.

- `+`, `-` and `*` are exact. The other side is a decimal, an integer of Rust on either side, an integer column, or a constant
  such as `dec!(0.19)`. A float needs `.cast::<f64>()` on the decimal, because most decimals have no exact float.
- `a.divided_by(b, digits)`, `a.round(digits)` and `avg_decimal(a, digits)` have exactly so many digits after the point, rounded once:
  halves away from zero. Dividing by 0 gives NULL.
- `sum`, `min` and `max` stay decimals. `avg` is a float.
- A result with more than 28 digits, or more than 28 after the point, is a `Mismatch` on every engine. Zeros at the end do not count.

## On each engine

**PostgreSQL** computes numbers of any length.

**MariaDB** computes 65 digits, 38 of them after the point, and cuts off the rest of a product. A result that reaches the 38th digit is
therefore a `Mismatch` that says so; round the factors first. A bind has one of three types, by its digits: `DECIMAL(29, 0)`,
`DECIMAL(24, 6)` or `DECIMAL(57, 28)`.

**SQLite** has no exact fractions. The library registers functions on its connections that compute with texts, such as
`nepheline_decimal_add`, and compares and sorts by `nepheline_decimal_key`. They stand in queries only: SQLite refuses them in
a schema, so that every other program can open the file.

- Declare the column as TEXT, or as INTEGER for whole numbers. A column declared NUMERIC or REAL turns texts into floats; those are
  read by their shortest text up to 15 digits, and more are an error that says what to declare.
- A text is a decimal in its only spelling, such as `-12.50`; `1.5` and `1.50` are equal.
- `eq` with a value looks up all spellings of it, so that an index on the column serves. `<`, ORDER BY and lists use no index.
- Groups and distinct values are read without zeros at the end.
- Sums and comparisons cost more than those of integers: see the figures at the end of this page. Store whole cents in an `i64` where
  that matters.
"#,
    );

    chapter.section("Reports");
    ask!(
        &mut chapter,
        "The total of each invoice, after discount and with tax, rounded line by line:",
        InvoiceLine::rows()
            .select(|l| {
                let net = l.quantity * l.unit_price * (1 - l.invoice().discount);
                (per(l.invoice().number), sum((net * (1 + l.tax_rate)).round(2)))
            })
            .order_by(|l| per(l.invoice().number).asc()),
    );
    ask!(
        &mut chapter,
        "The sum that each lab billed, and its share of the whole to four digits:",
        from(InvoiceLine::rows().select(|l| {
            shape!(LabTotal {
                lab: per(l.invoice().lab().name),
                billed: sum(l.quantity * l.unit_price),
            })
        }))
        .order_by(|t| t.lab.asc())
        .select(|t| (t.lab, t.billed, t.billed.divided_by(sum(t.billed).over(|w| w), 4))),
    );
    ask!(
        &mut chapter,
        "The least, the average and the greatest price of each service:",
        InvoiceLine::rows()
            .select(|l| {
                let prices = l.unit_price;
                (per(l.service), min(prices), avg_decimal(prices, 4), max(prices))
            })
            .order_by(|l| per(l.service).asc()),
    );
    ask!(
        &mut chapter,
        "The sum that each agency has not paid, and how much of it is older than 60 days:",
        {
            let old: Date = "2026-04-16".parse().unwrap();
            InvoiceLine::rows()
                .filter(|l| l.invoice().paid_on.is_null())
                .select(|l| {
                    let net = l.quantity * l.unit_price * (1 - l.invoice().discount);
                    let due = (net * (1 + l.tax_rate)).round(2);
                    let late = sum(due.clone()).filter(l.invoice().issued_on.lt(old));
                    (per(l.invoice().agency().name), sum(due), late)
                })
                .order_by(|l| per(l.invoice().agency().name).asc())
        },
    );
    ask!(
        &mut chapter,
        "The taxed amount and the tax of each rate:",
        InvoiceLine::rows()
            .select(|l| {
                let net = (l.quantity * l.unit_price).round(2);
                (per(l.tax_rate), sum(net.clone()), sum((net * l.tax_rate).round(2)))
            })
            .order_by(|l| per(l.tax_rate).asc()),
    );
    ask!(
        &mut chapter,
        "What was billed in each month, and in the year up to it:",
        from(InvoiceLine::rows().select(|l| {
            shape!(MonthTotal {
                month: per(l.invoice().issued_on.date_trunc(TruncUnit::Month)),
                billed: sum((l.quantity * l.unit_price).round(2)),
            })
        }))
        .order_by(|m| m.month.asc())
        .select(|m| {
            let so_far =
                sum(m.billed).over(|w| w.partition_by(m.month.year()).order_by(m.month.asc()));
            (m.month, m.billed, so_far)
        }),
    );
    ask!(
        &mut chapter,
        "The lines that cost a fifth more than the service usually does, the worst first:",
        from(InvoiceLine::rows().select(|l| {
            shape!(Priced {
                number: l.invoice().number,
                service: l.service,
                unit_price: l.unit_price,
                usual: avg_decimal(l.unit_price, 4).over(|w| w.partition_by(l.service)),
            })
        }))
        .filter(|p| p.unit_price.gt(p.usual * dec!(1.2)))
        .order_by(|p| {
            let excess = p.unit_price.divided_by(p.usual, 4);
            (excess.desc(), p.number.asc(), p.service.asc(), p.unit_price.asc())
        })
        .select(|p| (p.number, p.service, p.unit_price.divided_by(p.usual, 4))),
    );
    ask!(
        &mut chapter,
        "The invoices of a discount, found by an index however the number is written:",
        Invoice::rows()
            .filter(|i| i.discount.eq(dec!(0.125)))
            .order_by(|i| i.number.asc())
            .select(|i| (i.number, i.discount)),
    );
    chapter.append(include_str!("money_figures.md"));
    chapter.finish("money.md");
}
