//! Mistakes that must not compile, and what the compiler says about them: a file for each.

#[test]
fn mistakes_do_not_compile_and_are_told_in_plain_words() {
    trybuild::TestCases::new().compile_fail("tests/compile_fail/*.rs");
}
