# The recipes that people and CI use alike. `just` lists them.

# Show the recipes
default:
    @just --list

# Write the sample data and take the tour
demo *ARGS:
    cargo run --release -p churn-cli -- demo {{ARGS}}

# Run every test
test:
    cargo test --workspace

# Format all code
format:
    cargo fmt --all

# What must hold before a change lands
check: lint elsewhere doc test sizes

# Formatting and lints, warnings denied
lint:
    cargo fmt --all --check
    cargo clippy --workspace --all-targets -- -D warnings
    for format in "" arrow-ipc avro json orc parquet workbook; do cargo clippy -q -p churn --no-default-features --features "$format" -- -D warnings; done

# The oldest Rust that is promised
msrv:
    bash .ci/msrv

# The tests of delimited text alone, without the features of the formats
core:
    cargo test -p churn --no-default-features

# What every crate would be published as, built from its package; takes a quarter of an hour
package:
    cargo package --workspace --exclude churn-extensions --allow-dirty

# What changed in the library's interface since a commit, for the number of the next version; needs cargo-semver-checks
semver REV="HEAD~1":
    cargo semver-checks --package churn --baseline-rev {{REV}}

# The licences of all crates that the tool is built of, to target/licences.md
licences:
    bash .ci/licences

# The code for other systems than this one, as far as it can be checked here
elsewhere:
    bash .ci/elsewhere

# The documentation, warnings denied
doc:
    RUSTDOCFLAGS="-D warnings" cargo doc --workspace --no-deps

# The examples, over freshly written sample data
examples:
    cargo build -q --workspace --bins --examples
    "${CARGO_TARGET_DIR:-target}"/debug/churn demo target/demo --rows 20000 --no-tour
    "${CARGO_TARGET_DIR:-target}"/debug/examples/top_farms target/demo
    "${CARGO_TARGET_DIR:-target}"/debug/examples/clean_and_write target/demo
    "${CARGO_TARGET_DIR:-target}"/debug/examples/rows_and_batches target/demo
    "${CARGO_TARGET_DIR:-target}"/debug/examples/two_tables
    "${CARGO_TARGET_DIR:-target}"/debug/examples/moving_figures
    "${CARGO_TARGET_DIR:-target}"/debug/examples/wide_and_long
    for own in function aggregate window source format store; do "${CARGO_TARGET_DIR:-target}"/debug/examples/own_$own; done
    "${CARGO_TARGET_DIR:-target}"/debug/churn run target/demo/worth.churn

# Benchmarks of operators and readers, the answers checked before they are timed; the figures of the time before stay
# in target/bench/before.txt
bench *ARGS:
    mkdir -p target/bench
    -mv target/bench/now.txt target/bench/before.txt
    cargo bench --bench operators {{ARGS}} | tee target/bench/now.txt

# Fuzz a target (text, files, language, sql) for some seconds; needs cargo-fuzz
fuzz TARGET SECONDS="60":
    RUSTC_BOOTSTRAP=1 cargo fuzz run {{TARGET}} fuzz/corpus/{{TARGET}} fuzz/seeds/{{TARGET}} -- -max_total_time={{SECONDS}}

# Pictures of the main commands for docs/screenshots; needs Xvfb, xterm, ImageMagick and Chromium
screenshots:
    bash docs/screenshots/make.sh

# Caps on the size of files: lines of code in one file, megabytes in the repository
sizes:
    bash .ci/sizes

# How much of the code the tests reach, by file, least first; needs llvm-profdata and llvm-cov of the compiler's LLVM
coverage:
    bash .ci/coverage
