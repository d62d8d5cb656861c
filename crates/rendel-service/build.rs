//! Has the console embedded again when it was built again.

fn main() {
    println!("cargo:rerun-if-changed=../../web/console/dist");
}
