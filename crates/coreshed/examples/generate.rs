//! Writes the CSV files of the core shed: `cargo run -p nepheline-coreshed --example generate`.
//!
//! The seed is fixed, so the files come out the same each time, and a test holds them against this program.
#![allow(clippy::print_stdout, clippy::unwrap_used, reason = "a small tool for developers")]

use std::collections::BTreeMap;
use std::path::Path;

use jiff::ToSpan;
use jiff::civil::{Date, date};
use rand::Rng;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

const SEED: u64 = 20_260_117;
const SPECIMENS: usize = 600;
const ASSAYS: usize = 3_000;
const NULL: &str = r"\N";

/// The middle of the demo's time; nothing reads the clock.
const TODAY: Date = date(2026, 6, 15);

const AGENCIES: [&str; 3] =
    ["Upper Tarn Survey", "Hollow Coast Geology Office", "Varnholt Rock Board"];

/// Code, name, region, agency, and the day it was closed.
const SITES: [(&str, &str, &str, usize, Option<Date>); 10] = [
    ("KP", "Kestrel Pit", "Upper Tarn", 1, None),
    ("LM", "Lower Mere", "Upper Tarn", 1, None),
    ("GB", "Grey Bluff", "Sablemoor", 1, Some(date(2023, 9, 30))),
    ("HC", "Harl Cove", "Hollow Coast", 2, None),
    ("SL", "Saltlick", "Hollow Coast", 2, None),
    ("ØD", "Ødegap", "Sablemoor", 2, None),
    ("TW", "Twelve Wells", "Hollow Coast", 2, Some(date(2021, 3, 31))),
    ("VN", "Varn Notch", "Varnholt", 3, None),
    ("BR", "Bracken Ridge", "Varnholt", 3, None),
    // Drilling has not begun.
    ("QM", "Quiet Moor", "Sablemoor", 3, None),
];

const ANALYSTS: [&str; 8] = [
    "Ines Calloway",
    "Tomas Brandt",
    "Oyelaran Ade",
    "Mirja Salo",
    // Two people.
    "Robin Hale",
    "Robin Hale",
    "Šárka Dvorn",
    "Pim O'Dowd",
];

const LABS: [(&str, &str, bool); 5] = [
    ("Quartz & Sons", "Norland", true),
    ("Bright Assay", "Norland", true),
    ("Öster Laboratorium", "Estmark", true),
    ("Slow Furnace", "Westerlo", false),
    ("Third Decimal", "Westerlo", true),
];

const HAZARDS: [&str; 4] = ["radioactive", "asbestos fibres", "arsenic", "sharp edges"];

const ROCKS: [(&str, u32); 7] = [
    ("basalt", 22),
    ("granite", 24),
    ("gneiss", 16),
    ("schist", 14),
    ("pegmatite", 10),
    ("carbonatite", 8),
    ("nepheline syenite", 6),
];

/// Element and its usual parts per million.
const ELEMENTS: [(&str, f64); 7] = [
    ("Nd", 220.0),
    ("La", 300.0),
    ("Ce", 480.0),
    ("Zr", 150.0),
    ("Nb", 60.0),
    ("U", 8.0),
    ("Th", 25.0),
];

/// Labels that have been trouble somewhere, for the specimens of these numbers.
const AWKWARD_LABELS: [(usize, &str); 9] = [
    (17, "100%"),
    (18, "100_"),
    (42, "O'Brien's piece"),
    (43, r#"the "good" one"#),
    (77, "Čertova stěna 3"),
    (78, "岩芯-78"),
    (120, "back\\slash"),
    (121, "kp-041"),
    (300, "'; DROP TABLE specimen; --"),
];

/// The services that labs bill: a service, its usual price per piece, and the unit of its quantity.
const SERVICES: [(&str, i64); 6] = [
    ("crushing", 12_500),
    ("thin section", 489_000),
    ("mass spectrometry", 1_275_000),
    ("storage, per day", 3_333),
    ("courier, per km", 870),
    ("report", 2_400_000),
];

/// Rates of discount and of tax, in ten-thousandths.
const DISCOUNTS: [i64; 5] = [0, 0, 250, 500, 1_250];
const TAXES: [i64; 4] = [0, 700, 1_900, 1_900];

const INVOICES: usize = 150;

type Rows = Vec<Vec<String>>;

struct Borehole {
    code: &'static str,
    depth_m: f64,
    drilled_on: Date,
}

/// The text of each file, by table.
pub(crate) fn files() -> BTreeMap<&'static str, String> {
    let mut random = ChaCha8Rng::seed_from_u64(SEED);
    let (boreholes, borehole_rows, collar_rows) = boreholes(&mut random);
    let specimens = specimens(&mut random, &boreholes);
    let assays = assays(&mut random, &specimens);
    let hazards = specimen_hazards(&mut random);
    let (invoices, lines) = invoices();
    let named = |names: &[&str]| -> Rows {
        names
            .iter()
            .enumerate()
            .map(|(i, name)| row([&(i + 1), name]))
            .collect()
    };
    let sites = SITES
        .iter()
        .enumerate()
        .map(|(i, (_, name, region, agency, closed_on))| {
            row([&(i + 1), agency, name, region, &or_null(*closed_on)])
        });
    let labs = LABS.iter().enumerate();
    let labs =
        labs.map(|(i, (name, country, accredited))| row([&(i + 1), name, country, accredited]));
    BTreeMap::from([
        ("agency", csv("id,name", named(&AGENCIES))),
        ("site", csv("id,agency_id,name,region,closed_on", sites.collect())),
        ("borehole", csv("id,site_id,name,depth_m,drilled_on,rig", borehole_rows)),
        ("collar", csv("borehole_id,easting,northing,elevation_m", collar_rows)),
        ("analyst", csv("id,name", named(&ANALYSTS))),
        (
            "specimen",
            csv(
                "id,borehole_id,label,rock,top_m,base_m,taken_on,analyst_id,parent_id,withdrawn_at",
                specimens,
            ),
        ),
        ("lab", csv("id,name,country,accredited", labs.collect())),
        ("assay", csv("id,specimen_id,element,ppm,lab_id,due_on,reported_on", assays)),
        ("invoice", csv("id,number,lab_id,agency_id,issued_on,paid_on,discount", invoices)),
        ("invoice_line", csv("id,invoice_id,service,quantity,unit_price,tax_rate", lines)),
        ("hazard", csv("id,name", named(&HAZARDS))),
        ("specimen_hazard", csv("specimen_id,hazard_id", hazards)),
    ])
}

fn boreholes(random: &mut ChaCha8Rng) -> (Vec<Borehole>, Rows, Rows) {
    let (mut boreholes, mut rows, mut collars) = (Vec::new(), Rows::new(), Rows::new());
    for number in 1..=40 {
        // The last site is left without boreholes.
        let site = (number - 1) % (SITES.len() - 1);
        let code = SITES[site].0;
        let depth_m = tenths(random, 180.0, 950.0);
        let drilled_on = date(2016, 1, 1) + random.random_range(0..3_200).days();
        let rig = ["Old Margit", "DR-7", "Long Tom", ""][random.random_range(0..4)];
        let name = format!("{code}-{}", (number - 1) / (SITES.len() - 1) + 1);
        rows.push(row([&number, &(site + 1), &name, &depth_m, &drilled_on, &rig]));
        let (east, north) =
            (tenths(random, 310_000.0, 395_000.0), tenths(random, 6_100_000.0, 6_190_000.0));
        collars.push(row([&number, &east, &north, &tenths(random, -4.0, 640.0)]));
        boreholes.push(Borehole { code, depth_m, drilled_on });
    }
    (boreholes, rows, collars)
}

fn specimens(random: &mut ChaCha8Rng, boreholes: &[Borehole]) -> Rows {
    let total: u32 = ROCKS.iter().map(|(_, weight)| weight).sum();
    (1..=SPECIMENS)
        .map(|number| {
            let hole = random.random_range(0..boreholes.len());
            let Borehole { code, depth_m, drilled_on } = &boreholes[hole];
            let mut draw = random.random_range(0..total);
            let rock = ROCKS.iter().find(|(_, weight)| match draw < *weight {
                true => true,
                false => {
                    draw -= weight;
                    false
                }
            });
            let top_m = tenths(random, 0.0, depth_m - 3.0);
            let length = tenths(random, 0.1, 2.4);
            // One specimen is a cut surface: it has no length.
            let base_m =
                if number == 200 { top_m } else { ((top_m + length) * 10.0).round() / 10.0 };
            let taken_on = *drilled_on + random.random_range(1..400).days();
            let analyst = random
                .random_bool(0.7)
                .then(|| random.random_range(1..=ANALYSTS.len()));
            let parent =
                (number > 20 && random.random_bool(0.08)).then(|| random.random_range(1..number));
            let withdrawn = random.random_bool(0.05).then(|| {
                let second = random.random_range(0..60);
                format!(
                    "{}T08:{second:02}:30.250000Z",
                    taken_on + random.random_range(30..300).days()
                )
            });
            let awkward = AWKWARD_LABELS.iter().find(|(n, _)| *n == number);
            let label =
                awkward.map_or_else(|| format!("{code}-{number:03}"), |(_, label)| (*label).into());
            row([
                &number,
                &(hole + 1),
                &label,
                &rock.unwrap().0,
                &top_m,
                &base_m,
                &taken_on,
                &or_null(analyst),
                &or_null(parent),
                &or_null(withdrawn),
            ])
        })
        .collect()
}

fn assays(random: &mut ChaCha8Rng, specimens: &Rows) -> Rows {
    (1..=ASSAYS)
        .map(|number| {
            let specimen = random.random_range(0..specimens.len());
            let taken_on: Date = specimens[specimen][6].parse().unwrap();
            let (element, usual) = ELEMENTS[random.random_range(0..ELEMENTS.len())];
            // A few specimens are far richer than the rest, as in nature.
            let ppm = usual * random.random_range(0.05_f64..1.6).powi(3);
            let ppm = (ppm * 100.0).round() / 100.0;
            let due_on = taken_on + random.random_range(30..2_500).days();
            let late = random.random_range(-20..45).days();
            let reported_on =
                Some(due_on + late).filter(|day| *day < TODAY && !random.random_bool(0.04));
            let lab = random.random_range(1..=LABS.len());
            row([&number, &(specimen + 1), &element, &ppm, &lab, &due_on, &or_null(reported_on)])
        })
        .collect()
}

/// The invoices and their lines. A seed of their own leaves the other files as they were.
fn invoices() -> (Rows, Rows) {
    let mut random = ChaCha8Rng::seed_from_u64(SEED + 1);
    let (mut invoices, mut lines) = (Rows::new(), Rows::new());
    for number in 1..=INVOICES {
        let issued_on = date(2024, 1, 3) + random.random_range(0..880).days();
        let paid_on = Some(issued_on + random.random_range(3..75).days());
        let paid_on = paid_on.filter(|day| *day < TODAY && !random.random_bool(0.1));
        let discount = DISCOUNTS[random.random_range(0..DISCOUNTS.len())];
        let lab = random.random_range(1..=LABS.len());
        let agency = random.random_range(1..=AGENCIES.len());
        let name = format!("{}-{number:04}", issued_on.year());
        invoices.push(row([
            &number,
            &name,
            &lab,
            &agency,
            &issued_on,
            &or_null(paid_on),
            &decimal(discount, 4),
        ]));
        // One invoice has no lines, and one is a credit note.
        let count = if number == 60 { 0 } else { random.random_range(1..=6) };
        for _ in 0..count {
            let (service, usual) = SERVICES[random.random_range(0..SERVICES.len())];
            let unit_price = usual * random.random_range(80..125) / 100;
            let hundredths = match random.random_range(0..10) {
                0 => 0,
                1..4 => random.random_range(1..400) * 25,
                _ => random.random_range(1..30) * 100,
            };
            let hundredths = if number == 90 { -hundredths } else { hundredths };
            let tax = TAXES[random.random_range(0..TAXES.len())];
            lines.push(row([
                &(lines.len() + 1),
                &number,
                &service,
                &decimal(hundredths, 2),
                &decimal(unit_price, 4),
                &decimal(tax, 4),
            ]));
        }
    }
    (invoices, lines)
}

/// Writes an exact number with this many digits after the point.
fn decimal(digits: i64, scale: u32) -> String {
    let unit = 10_i64.pow(scale);
    let sign = if digits < 0 { "-" } else { "" };
    let (whole, fraction) = (digits.abs() / unit, digits.abs() % unit);
    format!("{sign}{whole}.{fraction:0width$}", width = scale as usize)
}

fn specimen_hazards(random: &mut ChaCha8Rng) -> Rows {
    let pairs =
        (1..=SPECIMENS).flat_map(|specimen| (1..=HAZARDS.len()).map(move |h| (specimen, h)));
    pairs
        .filter(|_| random.random_bool(0.03))
        .map(|(specimen, hazard)| row([&specimen, &hazard]))
        .collect()
}

fn tenths(random: &mut ChaCha8Rng, from: f64, to: f64) -> f64 {
    (random.random_range(from..to) * 10.0).round() / 10.0
}

fn or_null(value: Option<impl ToString>) -> String {
    value.map_or_else(|| NULL.into(), |value| value.to_string())
}

fn row<const N: usize>(fields: [&dyn ToString; N]) -> Vec<String> {
    fields.map(|field| field.to_string()).into()
}

fn csv(header: &str, rows: Rows) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(header.split(',')).unwrap();
    for row in rows {
        writer.write_record(row).unwrap();
    }
    String::from_utf8(writer.into_inner().unwrap()).unwrap()
}

#[allow(dead_code, reason = "the test that includes this file does not run it")]
fn main() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("data");
    for (table, text) in files() {
        std::fs::write(folder.join(table).with_extension("csv"), &text).unwrap();
        println!("{table}: {} rows", text.lines().count() - 1);
    }
}
