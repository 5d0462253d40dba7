use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Specimen {
    #[nepheline(key)]
    id: i64,
    label: String,
}

struct NotStorable;

fn main() {
    let text = String::from("label = 'KP'");
    let _ = Specimen::rows().filter(|_| verbatim!(text).holds());
    let _ = Specimen::rows().filter(|s| verbatim!("{} = {}", s.label).holds());
    let _ = Specimen::rows().filter(|s| verbatim!("{} = 1", s.id, s.label).holds());
    let _ = Specimen::rows().filter(|s| verbatim!("{missing} = {}", s.label).holds());
    let _ = Specimen::rows().filter(|_| verbatim!(quartz: "1 = 1").holds());
    let _ = Specimen::rows().filter(|_| verbatim!("label = ?").holds());
    let _ = Specimen::rows().filter(|_| verbatim!("label = 'a' -- or so").holds());
    let _ = Specimen::rows().filter(|_| verbatim!("id = 1; DROP TABLE specimen").holds());
    let _ = Specimen::rows().filter(|_| verbatim!("id = 1) OR (1 = 1").holds());
    let _ = Specimen::rows().filter(|_| verbatim!("label = 'a").holds());
    let _ = Specimen::rows().filter(|_| verbatim!("{} = 1", NotStorable).holds());
    let _ = Specimen::rows().filter(|s| verbatim!("{} = 1", s.id));
}
