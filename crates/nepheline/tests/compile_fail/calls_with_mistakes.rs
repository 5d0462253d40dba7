use nepheline::blocking::Database;
use nepheline::prelude::*;
use nepheline::{call, statement};

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    top_m: f64,
}

fn f(db: &Database, name: &str) -> Result<(), Error> {
    // No type for the value of a function, or for the rows of one.
    Specimen::rows().select(|s| call!("in_feet"(s.top_m)));
    Specimen::rows().filter(|s| call!("is_deep"(s.top_m)));
    db.read(&call!("specimens_near"(1.5)))?;
    // Not a call.
    db.call(&statement!("SELECT 1"))?;
    // No result sets, but one row type.
    db.call(&call!("site_report"(7_i64)).result_sets::<i64>())?;
    // Names that no database has.
    call!(name(7_i64));
    call!(""());
    call!("a.b.c"());
    // A list of columns outside of a statement, or without an alias.
    verbatim!("{columns of Specimen as s}").condition();
    statement!("SELECT {columns of Specimen} FROM specimen");
    Ok(())
}

fn main() {}
