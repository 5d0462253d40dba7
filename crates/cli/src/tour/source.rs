//! The Rust of a step, as it stands in its source file. The file is part of the program, so that what the tour
//! shows is what it runs.

/// The line before the part of a function that the tour shows.
const BEGIN: &str = "// shown";

/// The line after it.
const END: &str = "// until here";

/// Returns the shown part of a function in a source file, without its indent.
pub(super) fn shown_of(file: &str, function: &str) -> String {
    let opening = format!("fn {function}(");
    let lines = file.lines().skip_while(|line| !line.contains(&opening));
    let body = lines.take_while(|line| *line != "}");
    let mut shown = Vec::new();
    let mut is_shown = false;
    for line in body {
        match line.trim() {
            BEGIN => is_shown = true,
            END => is_shown = false,
            _ if is_shown => shown.push(line.strip_prefix("    ").unwrap_or(line)),
            _ => {}
        }
    }
    shown.join("\n")
}
