use nepheline::prelude::*;

#[derive(Storable)]
struct Interval {
    top: f64,
    base: f64,
}

#[derive(Storable)]
enum Rock {
    Basalt,
    #[nepheline(text = "basalt")]
    Twin,
    #[nepheline(word = "g")]
    Granite,
    Mixed(u8),
}

fn main() {}
