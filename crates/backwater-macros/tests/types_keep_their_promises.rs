//! What the types promise, the compiler holds. It stands here and not with the library, as the
//! library is compiled once more for it, which goes quicker without its SQLite.

#[test]
fn what_must_not_compile_does_not() {
    let cases = trybuild::TestCases::new();
    cases.compile_fail("tests/compile_fail/*.rs");
}
