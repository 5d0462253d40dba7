use nepheline::prelude::*;

#[derive(Debug, Table)]
#[nepheline(children(boreholes: Borehole by site_name))]
struct Site {
    #[nepheline(key)]
    id: i64,
}

#[derive(Debug, Table)]
struct Borehole {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Site)]
    site_name: String,
    #[nepheline(references = Keyless)]
    rig_id: i64,
}

#[derive(Debug, Table)]
struct Keyless {
    name: String,
}

#[derive(Debug, Table)]
#[nepheline(bridged(sites: Site across Keyless), children(pieces: Site), cousins(a: Site))]
struct Specimen {
    #[nepheline(key, references = Site, called = id)]
    site_id: i64,
    #[nepheline(called = nobody)]
    other: i64,
}

#[derive(Debug, Table)]
struct Core {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Site)]
    site_id: i64,
}

fn main() {
    let _ = Core::rows().filter(|c| c.sight().id.eq(1));
    let _ = Core::rows().filter(|c| c.site().idd.eq(1));
    let _ = Core::rows().join(|c| c.id);
}
