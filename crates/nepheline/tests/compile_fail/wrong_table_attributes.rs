use nepheline::prelude::*;

// Every mistake is told at once.
#[derive(Debug, Table)]
#[nepheline(name = "specimens", schema = "")]
struct Specimen {
    #[nepheline(primary)]
    id: i64,
    #[nepheline(column = "Label ")]
    label: String,
    top: f64,
    #[nepheline(column = "TOP")]
    other: f64,
}

#[derive(Table)]
struct Generic<T> {
    id: T,
}

#[derive(Table)]
struct Pair(i64, i64);

#[derive(Table)]
enum Rock {
    Basalt,
}

fn main() {}
