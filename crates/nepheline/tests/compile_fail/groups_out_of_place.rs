use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Site {
    #[nepheline(key)]
    id: i64,
    region: String,
}

fn main() {
    let _ = Site::rows().having(|_| count().gt(1));
    let _ = Site::rows().join(|_| Site::rows().select(|s| (per(s.region), count())));
}
