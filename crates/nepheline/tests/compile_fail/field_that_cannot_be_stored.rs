use nepheline::prelude::*;

struct Colour(u8, u8, u8);

#[derive(Table)]
struct Sample {
    #[nepheline(key)]
    id: i64,
    colour: Colour,
}

fn main() {}
