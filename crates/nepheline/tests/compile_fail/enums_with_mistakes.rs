use nepheline::prelude::*;

// Stored as numbers, or as text?
#[derive(Storable)]
#[repr(i16)]
enum Priority {
    Low = 1,
}

#[derive(Storable)]
#[nepheline(integer, text)]
enum Both {
    One,
}

#[derive(Storable)]
#[nepheline(integer)]
struct Tray(i64);

#[derive(Storable)]
#[nepheline(integer)]
#[repr(u64)]
enum Wide {
    One = 1,
}

#[derive(Storable)]
#[nepheline(integer)]
enum Named {
    #[nepheline(text = "one")]
    One,
    Two(i64),
}

#[derive(Storable)]
#[nepheline(database_type = "rock_kind", text)]
enum Rock {
    Shale,
    #[nepheline(text = "a\\b")]
    Odd,
}

#[derive(Storable)]
#[nepheline(database_type = "depth")]
struct Depth(f64);

fn main() {}
