//! Gives the library's own source loom's locks here, and only here.

fn main() {
    println!("cargo::rustc-cfg=loom");
}
