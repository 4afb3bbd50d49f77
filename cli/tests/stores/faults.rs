//! Buckets that fail, and how that is told; what must never be seen is half an object.

use std::fs;
use std::time::{Duration, Instant};

use rstest::rstest;

use crate::bucket::{Bucket, Fault, Request};
use crate::{churn, deliveries, done, run, settings};

fn well(_: &Request, _: usize) -> Fault {
    Fault::None
}

/// An object is read, written and listed, in each format, with the same bytes as a file.
#[rstest]
fn an_object_stands_where_a_file_does(#[values("s3", "gs")] scheme: &str) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("milk.csv"), deliveries(3000)).unwrap();
    let bucket = Bucket::start(well);
    let with = settings(scheme, &bucket.address);
    let sums = "group by farm: s = sum(litres), d = max(day)";
    let expected = done(folder.path(), &with, &["milk.csv", sums]);
    for name in [
        "2026/milk.csv",
        "2026/milk.csv.gz",
        "milk.parquet",
        "milk.arrow",
        "milk.ndjson",
        "milk.avro",
        "a b.csv",
    ] {
        let address = format!("{scheme}://dairy/{name}");
        done(folder.path(), &with, &["milk.csv", "-o", &address]);
        assert_eq!(done(folder.path(), &with, &[&address, sums]), expected, "{name}");
    }
    assert_eq!(bucket.get("2026/milk.csv").unwrap(), fs::read(folder.path().join("milk.csv")).unwrap());
    let read: Vec<_> =
        bucket.requests().into_iter().filter(|request| !request.line.starts_with("P")).collect();
    assert!(read.iter().all(|request| request.is_signed == (scheme == "s3")));
}

/// Patterns and folders mean objects in order of name, keys of folders are columns, and those that a condition rules out are not
/// read.
#[test]
fn objects_are_found_by_patterns_and_folders() {
    let folder = tempfile::tempdir().unwrap();
    let bucket = Bucket::start(well);
    for year in 2021..2026 {
        bucket.put(&format!("milk/year={year}/part.csv"), format!("litres\n{year}\n").as_bytes());
    }
    bucket.put("milk/_done", b"");
    bucket.put("milk/year=2021", b"");
    bucket.put("milk/year=2021/deep/er.csv", b"litres\n1\n");
    let with = settings("s3", &bucket.address);
    let read = |address: &str, steps: &str| done(folder.path(), &with, &[address, steps]);
    let count = "total: n = count(), s = sum(litres)";
    assert_eq!(read("s3://dairy/milk/year=202[1-3]/*.csv", count), "n,s\n3,6066\n");
    assert_eq!(read("s3://dairy/milk/*/part.csv", count), "n,s\n5,10115\n");
    assert_eq!(read("s3://dairy/milk/**/*.csv", count), "n,s\n6,10116\n");
    assert_eq!(read("s3://dairy/milk/", "filter year = 2024\ntotal: s = sum(litres)"), "s\n2024\n");
    for (address, told) in [
        ("s3://dairy/milk/*.parquet", "No object fits s3://dairy/milk/*.parquet."),
        ("s3://dairy/whey/", "The folder s3://dairy/whey/ holds no objects."),
        ("s3://dairy/whey.csv", "s3://dairy/whey.csv cannot be read: there is no such object."),
        ("s3://dairy/a/../b.csv", "a part of its object's name is empty, or a point or two"),
        ("s3:///milk.csv", "names no bucket"),
    ] {
        let (is_well, text) = run(churn(folder.path(), &with).args(["do", address]));
        assert!(!is_well && text.contains(told), "{text}");
    }
}

/// What may succeed later is tried again; what does not is told, in time.
#[rstest]
#[case::busy_twice(|_: &Request, before| if before < 2 { Fault::Status(503) } else { Fault::None }, None)]
#[case::too_often_once(|_: &Request, before| if before < 1 { Fault::Status(429) } else { Fault::None }, None)]
#[case::hangs_up_twice(|_: &Request, before| if before < 2 { Fault::HangUp(1000) } else { Fault::None }, None)]
#[case::always_busy(|_: &Request, _| Fault::Status(503), Some("answers with the status 503, also after several attempts"))]
#[case::no_right(|_: &Request, _| Fault::Status(403), Some("gives no right to do so with these keys"))]
#[case::elsewhere(|_: &Request, _| Fault::Status(301), Some("in another region than AWS_REGION names"))]
#[case::odd(|_: &Request, _| Fault::Status(418), Some("answers with the status 418"))]
fn what_a_bucket_answers_is_told(
    #[case] faults: fn(&Request, usize) -> Fault,
    #[case] told: Option<&str>,
    #[values("milk.csv", "milk.parquet")] name: &str,
) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("milk.csv"), deliveries(3000)).unwrap();
    done(folder.path(), &[], &["milk.csv", "-o", "milk.parquet"]);
    let bucket = Bucket::start(faults);
    bucket.put(name, &fs::read(folder.path().join(name)).unwrap());
    let with = settings("s3", &bucket.address);
    let address = format!("s3://dairy/{name}");
    let (is_well, text) = run(churn(folder.path(), &with).args(["do", &address, "total: s = sum(litres)"]));
    match told {
        None => assert!(is_well && text.contains("4498500"), "{text}"),
        Some(told) => assert!(!is_well && text.contains(told) && text.contains(&address), "{text}"),
    }
}

/// An object that is replaced while parts of it are read is an error.
#[test]
fn an_object_that_changes_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let row = |n: u64| format!("{}\n", n.wrapping_mul(n).wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 20);
    let text = format!("n\n{}", (0..20_000).map(row).collect::<String>());
    fs::write(folder.path().join("milk.csv"), text).unwrap();
    done(folder.path(), &[], &["milk.csv", "-o", "milk.parquet"]);
    let bucket = Bucket::start(|_: &Request, before| if before == 0 { Fault::OtherTag } else { Fault::None });
    bucket.put("milk.parquet", &fs::read(folder.path().join("milk.parquet")).unwrap());
    let with = settings("s3", &bucket.address);
    let (is_well, text) = run(churn(folder.path(), &with).args(["do", "s3://dairy/milk.parquet"]));
    assert!(!is_well && text.contains("it changed while it was read"), "{text:.200} {:?}", bucket.requests());
}

/// Without keys nothing is signed, and a refusal says where keys are looked for.
#[test]
fn without_keys_requests_are_anonymous() {
    let folder = tempfile::tempdir().unwrap();
    let bucket = Bucket::start(|request, _| match request.line.ends_with("open.csv") {
        true => Fault::None,
        false => Fault::Status(403),
    });
    bucket.put("open.csv", deliveries(3).as_bytes());
    let with = [("AWS_ENDPOINT_URL", bucket.address.as_str())];
    assert_eq!(done(folder.path(), &with, &["s3://dairy/open.csv", "total: n = count()"]), "n\n3\n");
    assert!(bucket.requests().iter().all(|request| !request.is_signed));
    let (_, text) = run(churn(folder.path(), &with).args(["do", "s3://dairy/closed.csv"]));
    assert!(text.contains("without keys, and none were found: set AWS_ACCESS_KEY_ID"), "{text}");
    // Keys of a profile are taken.
    fs::create_dir(folder.path().join(".aws")).unwrap();
    let keys = "[herd]\naws_access_key_id = dairy\naws_secret_access_key = MilkAndWhey\n";
    fs::write(folder.path().join(".aws/credentials"), keys).unwrap();
    let with = [with[0], ("AWS_PROFILE", "herd")];
    done(folder.path(), &with, &["s3://dairy/open.csv"]);
    assert!(bucket.requests().last().unwrap().is_signed);
}

/// A large object is written in parts, of which nothing is seen before all are there; parts of one that fails are given up.
#[rstest]
#[case::well(|_: &Request, _| Fault::None, true)]
#[case::a_part_fails_once(|request: &Request, before| if is_part(request, 2) && before < 4 { Fault::Status(500) } else { Fault::None }, true)]
#[case::a_part_fails(|request: &Request, _| if is_part(request, 2) { Fault::Status(500) } else { Fault::None }, false)]
#[case::no_right_to_a_part(|request: &Request, _| if is_part(request, 3) { Fault::Status(403) } else { Fault::None }, false)]
#[case::the_end_fails(|request: &Request, _| if is_end(request) { Fault::Status(500) } else { Fault::None }, false)]
fn an_object_is_there_whole_or_not_at_all(
    #[case] faults: fn(&Request, usize) -> Fault,
    #[case] is_written: bool,
) {
    let folder = tempfile::tempdir().unwrap();
    let text = deliveries(1_200_000);
    assert!(text.len() > 2 * (8 << 20));
    fs::write(folder.path().join("milk.csv"), &text).unwrap();
    let bucket = Bucket::start(faults);
    bucket.put("milk.csv", b"older");
    let with = settings("s3", &bucket.address);
    let (is_well, told) =
        run(churn(folder.path(), &with).args(["do", "milk.csv", "-o", "s3://dairy/milk.csv"]));
    assert_eq!(is_well, is_written, "{told}");
    let now = bucket.get("milk.csv").unwrap();
    assert!(if is_written { now == text.as_bytes() } else { now == b"older" });
    assert_eq!(bucket.left_parts(), 0, "{told}");
    assert!(is_written || told.contains("s3://dairy/milk.csv cannot be written"), "{told}");
}

fn is_part(request: &Request, number: usize) -> bool {
    request.line.starts_with("PUT") && request.line.contains(&format!("partNumber={number}"))
}

fn is_end(request: &Request) -> bool {
    request.line.starts_with("POST") && request.line.contains("uploadId=")
}

/// A run that fails writes nothing.
#[test]
fn a_run_that_fails_leaves_the_bucket_as_it_was() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("milk.csv"), "farm,litres\nF1,2\nF2,x1\n").unwrap();
    let bucket = Bucket::start(well);
    let with = settings("s3", &bucket.address);
    let typed = "read 'milk.csv' with (types = (litres int))\nwrite 's3://dairy/milk.csv'\n";
    fs::write(folder.path().join("t.churn"), typed).unwrap();
    let (is_well, text) = run(churn(folder.path(), &with).args(["run", "t.churn"]));
    assert!(!is_well && text.contains("x1"), "{text}");
    assert!(bucket.get("milk.csv").is_none());
    let (is_well, text) = run(churn(folder.path(), &with).args(["--offline", "do", "s3://dairy/milk.csv"]));
    assert!(!is_well && text.contains("--offline"), "{text}");
    assert!(
        bucket.requests().iter().all(|request| !request.line.starts_with("PUT")),
        "{:?}",
        bucket.requests()
    );
}

/// A bucket that never answers does not keep a run that is to stop.
#[cfg(unix)]
#[rstest]
fn a_run_is_stopped_while_it_waits(#[values("milk.csv", "milk.parquet")] name: &str) {
    let folder = tempfile::tempdir().unwrap();
    let bucket = Bucket::start(|_: &Request, _| Fault::Stall);
    let with = settings("s3", &bucket.address);
    let address = format!("s3://dairy/{name}");
    let mut child = churn(folder.path(), &with)
        .args(["do", &address])
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(700));
    let start = Instant::now();
    stop(&child);
    assert!(!child.wait().unwrap().success());
    assert!(start.elapsed() < Duration::from_secs(5), "{:?}", start.elapsed());
}

/// An upload to a bucket that stalls does not keep it either, and nothing is left of it.
#[cfg(unix)]
#[test]
fn an_upload_is_stopped_while_it_waits() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("milk.csv"), deliveries(1_200_000)).unwrap();
    let bucket = Bucket::start(|request, _| match is_part(request, 2) {
        true => Fault::Stall,
        false => Fault::None,
    });
    bucket.put("milk.csv", b"older");
    let with = settings("s3", &bucket.address);
    let mut child = churn(folder.path(), &with)
        .args(["do", "milk.csv", "-o", "s3://dairy/milk.csv"])
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let start = Instant::now();
    while !bucket.requests().iter().any(|request| is_part(request, 2)) && start.elapsed().as_secs() < 60 {
        std::thread::sleep(Duration::from_millis(20));
    }
    let start = Instant::now();
    stop(&child);
    assert!(!child.wait().unwrap().success());
    assert!(start.elapsed() < Duration::from_secs(5), "{:?}", start.elapsed());
    assert_eq!(bucket.get("milk.csv").unwrap(), b"older");
    assert_eq!(bucket.left_parts(), 0);
}

/// Asks a run to stop, as Ctrl-C does.
#[cfg(unix)]
fn stop(child: &std::process::Child) {
    let id = rustix::process::Pid::from_raw(child.id().cast_signed()).unwrap();
    rustix::process::kill_process(id, rustix::process::Signal::INT).unwrap();
}
