use nepheline::prelude::*;

struct Colour(u8, u8, u8);

#[derive(Table)]
struct Sample {
    #[nepheline(key)]
    id: i64,
    colour: Colour,
    serial: u64,
    marks: Option<Vec<String>>,
}

#[derive(Debug, Clone, Storable)]
struct Metres(f64);

#[derive(RowShape)]
#[nepheline(serialize)]
struct Depth {
    hole: i64,
    depth: Metres,
}

fn main() {}
