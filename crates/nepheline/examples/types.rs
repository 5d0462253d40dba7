//! Types beyond numbers and text: an enum of the database, a JSON document, a list, an address and an interval.
//!
//! ```sh
//! cargo run --example types
//! ```

#![allow(clippy::print_stdout, reason = "an example")]

use std::net::IpAddr;

use jiff::Span;
use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline::{Array, JsonDocument, create_table};
use serde::{Deserialize, Serialize};

/// An enum type on PostgreSQL, an ENUM on MariaDB, text on SQLite. It sorts in the order of its variants everywhere.
#[derive(Debug, Clone, Copy, PartialEq, Storable)]
#[nepheline(database_type = "damage")]
enum Damage {
    None,
    Chipped,
    Broken,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Notes {
    crew: Vec<String>,
    planned_m: f64,
}

/// A box of cores.
#[derive(Debug, Table)]
struct Tray {
    #[nepheline(key, generated)]
    id: i64,
    damage: Damage,
    tags: Array<String>,
    notes: JsonDocument<Notes>,
    scanned_from: Option<IpAddr>,
    dries_for: Span,
}

fn main() -> anyhow::Result<()> {
    let db = Database::open("sqlite::memory:")?;
    db.run_script(&create_table::<Tray>(db.dialect())?)?;

    let tray = |damage, tags: &[&str], crew: &str, planned_m| -> Result<_, Error> {
        Ok(TrayToInsert {
            damage,
            tags: tags.iter().map(|tag| (*tag).to_owned()).collect(),
            notes: JsonDocument::of(Notes { crew: vec![crew.to_owned()], planned_m })?,
            scanned_from: (damage == Damage::None).then_some([192, 0, 2, 7].into()),
            dries_for: 36.hours(),
        })
    };
    db.write(&Tray::insert_all([
        tray(Damage::Broken, &["wet", "split"], "Ivo", 240.5)?,
        tray(Damage::None, &["dry"], "Ada", 80.0)?,
        tray(Damage::Chipped, &["wet"], "Ada", 310.0)?,
    ]))?;

    let worst_first = Tray::rows().order_by(|t| t.damage.desc());
    for tray in db.read(&worst_first)? {
        let (damage, from) = (tray.damage, tray.scanned_from);
        println!(
            "{} {damage:?} {:?} dries for {}, from {from:?}",
            tray.id, &*tray.tags, tray.dries_for
        );
    }

    let wet = Tray::rows()
        .filter(|t| t.tags.contains("wet") & t.damage.lt(Damage::Broken))
        .select(|t| (t.id, t.notes.key("crew").item(0).json_value::<String>()));
    println!("wet and not broken: {:?}", db.read(&wet)?);

    let deeper = Tray::row(2).update(|t| {
        (
            t.tags.set(t.tags.append("photographed")),
            t.notes.set(t.notes.with_key("planned_m", Json::from(95.5))),
        )
    });
    db.write(&deeper)?;
    let tray = db.read_one(&Tray::row(2))?;
    println!("{:?}, planned to {} m by {:?}", &*tray.tags, tray.notes.planned_m, tray.notes.crew);
    Ok(())
}
