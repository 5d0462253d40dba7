//! Databases: opening one by its URL, from async code; streams, plans and transactions.
//!
//! `cargo run -p nepheline --all-features --example databases -- [URL]`; without a URL it uses a
//! SQLite file of its own. The demo data is loaded first, unless it is there.
#![allow(clippy::print_stdout, reason = "an example")]

use futures_util::TryStreamExt;
use nepheline::prelude::*;
use nepheline::{Database, Isolation, RunsQueries, TransactionOptions, blocking};
use nepheline_coreshed::scopes::overdue;
use nepheline_coreshed::{Assay, Lab, LabToInsert, Specimen};

fn main() -> anyhow::Result<()> {
    let folder = tempfile::tempdir()?;
    let own = || format!("sqlite:{}?mode=rwc", folder.path().join("core.db").display());
    let url = std::env::args().nth(1).unwrap_or_else(own);
    nepheline_coreshed::load(&blocking::Database::open(&url)?)?;

    tokio::runtime::Runtime::new()?.block_on(ask(&url))
}

async fn ask(url: &str) -> anyhow::Result<()> {
    let db = Database::open(url).await?;
    println!("{db:?} speaks {}", db.dialect());

    // Row after row, in constant memory.
    let late = Assay::rows()
        .filter(overdue("2026-06-15".parse()?))
        .order_by(|a| a.due_on.asc());
    let mut assays = db.read_stream(&late);
    let mut ppm = 0.0;
    while let Some(assay) = assays.try_next().await? {
        ppm += assay.ppm;
    }
    drop(assays);
    println!("the overdue assays sum up to {ppm:.1} ppm so far");

    println!(
        "how the engine finds a label:\n{}",
        db.explain(&Specimen::row_by_label("KP-041")).await?
    );

    // Both counts are of one moment.
    let options = TransactionOptions::new()
        .read_only()
        .isolation(Isolation::Serializable);
    let (labs, accredited) = db
        .transaction_with(options, async |tx| both_counts(&tx).await)
        .await?;
    println!("{accredited} of {labs} labs are accredited");

    // Work that may fail goes into a transaction inside: it is undone alone, on every engine.
    let name = "Bright Assay".to_owned();
    let twice = Lab::insert(LabToInsert { name, country: "Norland".to_owned(), accredited: true });
    let known = db
        .transaction(async |tx| {
            let stored = tx
                .transaction(async |inner| inner.write(&twice).await)
                .await;
            match stored {
                Ok(_) => Ok(false),
                Err(err) if err.kind() == ErrorKind::UniqueViolation => {
                    tx.read_first(&Lab::rows()).await?;
                    Ok(true)
                }
                Err(err) => Err(err),
            }
        })
        .await?;
    println!("a lab of that name is there already: {known}");
    Ok(())
}

/// Works on a database as well as within a transaction.
async fn both_counts(db: &impl RunsQueries) -> Result<(u64, u64), Error> {
    let labs = db.count(&Lab::rows()).await?;
    let accredited = db.count(&Lab::rows().filter(|l| l.accredited)).await?;
    Ok((labs, accredited))
}
