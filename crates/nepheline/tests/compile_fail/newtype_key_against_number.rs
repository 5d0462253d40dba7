use nepheline::prelude::*;

#[derive(Debug, Storable)]
struct SiteId(i64);

#[derive(Debug, Table)]
struct Site {
    #[nepheline(key)]
    id: SiteId,
}

fn main() {
    let _ = Site::row(7);
}
