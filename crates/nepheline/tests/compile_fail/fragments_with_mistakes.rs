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
    let _ = Specimen::rows().filter(|_| verbatim!(text).condition());
    let _ = Specimen::rows().filter(|s| verbatim!("{} = {}", s.label).condition());
    let _ = Specimen::rows().filter(|s| verbatim!("{} = 1", s.id, s.label).condition());
    let _ = Specimen::rows().filter(|s| verbatim!("{missing} = {}", s.label).condition());
    let _ = Specimen::rows().filter(|_| verbatim!(quartz: "1 = 1").condition());
    let _ = Specimen::rows().filter(|_| verbatim!("label = ?").condition());
    let _ = Specimen::rows().filter(|s| verbatim!("label = '{}'", s.label).condition());
    let _ = Specimen::rows().filter(|s| verbatim!("{}, label", s.label).condition());
    let _ = Specimen::rows().filter(|_| verbatim!("label = 'a' -- or so").condition());
    let _ = Specimen::rows().filter(|_| verbatim!("id = 1; DROP TABLE specimen").condition());
    let _ = Specimen::rows().filter(|_| verbatim!("id = 1) OR (1 = 1").condition());
    let _ = Specimen::rows().filter(|_| verbatim!("label = 'a").condition());
    let _ = Specimen::rows().select(|s| verbatim!("? {}", s.label, s.id).typed::<i64>() + 1);
    let _ = Specimen::rows().filter(|_| verbatim!("{} = 1", NotStorable).condition());
    let _ = Specimen::rows().filter(|s| verbatim!("{} = 1", s.id));
}
