//! Where records stand in a text.

use churn_core::{Error, ErrorKind};

/// Where the scan of a text stands: within an array of records, a record, a text.
#[derive(Clone, Copy, Debug, Default)]
pub struct RecordScan {
    started: bool,
    /// Whether records stand in one array.
    array: bool,
    depth: usize,
    in_text: bool,
    escaped: bool,
    /// What stood last outside of records.
    last: LastByte,
}

/// What stands between the records of an array.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum LastByte {
    /// Nothing yet, or the bracket that opens the array.
    #[default]
    Start,
    Record,
    Comma,
    /// The bracket that closes the array.
    End,
}

/// What a scan finds in a text.
#[derive(Debug, Default)]
pub(super) struct Cuts {
    /// The places of whole records.
    pub(super) records: Vec<(usize, usize)>,
    /// Where a record starts that goes on behind the text.
    pub(super) open: Option<usize>,
    /// Where something stands that cannot stand between records, and what is wrong there.
    pub(super) fault: Option<(usize, &'static str)>,
}

impl RecordScan {
    /// Goes over some text and finds its records, and the first fault between them.
    pub(super) fn records(&mut self, text: &[u8]) -> Cuts {
        let mut found = Cuts::default();
        let mut open = None;
        for (at, byte) in text.iter().enumerate() {
            if self.in_text {
                match byte {
                    _ if self.escaped => self.escaped = false,
                    b'\\' => self.escaped = true,
                    b'"' => self.in_text = false,
                    _ => {}
                }
                continue;
            }
            match byte {
                b'[' if !self.started => (self.started, self.array) = (true, true),
                b'{' | b'[' => {
                    if self.depth == 0 {
                        self.starts_record(at, open.is_some(), &mut found);
                        open.get_or_insert(at);
                    }
                    self.depth += 1;
                }
                b'}' | b']' if self.depth > 0 => {
                    self.depth -= 1;
                    if self.depth == 0 {
                        found.records.extend(open.take().map(|start| (start, at + 1)));
                    }
                }
                b'"' => {
                    if self.depth == 0 {
                        self.starts_record(at, open.is_some(), &mut found);
                        open.get_or_insert(at);
                    }
                    self.in_text = true;
                }
                b']' if self.array => {
                    found.records.extend(open.take().map(|start| (start, at)));
                    match self.last {
                        LastByte::Comma => found.wrong(at, "A comma stands before the end of the array."),
                        LastByte::End => found.wrong(at, "The array ends twice."),
                        _ => {}
                    }
                    self.last = LastByte::End;
                }
                b',' if self.depth == 0 => {
                    found.records.extend(open.take().map(|start| (start, at)));
                    match self.last {
                        _ if !self.array => found.wrong(at, "A comma stands between records of no array."),
                        LastByte::Record => {}
                        LastByte::End => found.wrong(at, "Something follows the end of the array."),
                        _ => found.wrong(at, "A comma stands where a record should."),
                    }
                    self.last = LastByte::Comma;
                }
                byte if byte.is_ascii_whitespace() => {
                    found.records.extend(open.take_if(|_| self.depth == 0).map(|start| (start, at)));
                }
                // Something else than a record, of which its parser says so; but not a mark of byte order.
                byte if self.depth == 0 && open.is_none() && (self.started || byte.is_ascii()) => {
                    self.starts_record(at, false, &mut found);
                    open = Some(at);
                }
                _ => {}
            }
        }
        found.open = open;
        found
    }

    fn starts_record(&mut self, at: usize, is_open: bool, found: &mut Cuts) {
        self.started = true;
        if self.array && !is_open {
            match self.last {
                LastByte::Record => found.wrong(at, "A comma is missing between two records."),
                LastByte::End => found.wrong(at, "Something follows the end of the array."),
                _ => {}
            }
        }
        self.last = LastByte::Record;
    }

    /// Whether each of some records stands on a line of its own, outside of an array.
    pub(super) fn is_of_lines(&self, records: &[(usize, usize)], text: &[u8]) -> bool {
        let is_line = |(start, end): &(usize, usize)| {
            let record = text.get(*start..*end).unwrap_or_default();
            memchr::memchr(b'\n', record).is_none() && matches!(text.get(*end), None | Some(b'\n' | b'\r'))
        };
        !self.array && records.iter().all(is_line)
    }

    /// Whether the text may end here: an array must have ended.
    pub(super) fn may_end(&self) -> bool {
        !self.array || self.last == LastByte::End
    }

    /// Whether records stand one behind the other, outside of an array, and the next one starts here.
    pub(super) fn is_between_lines(&self) -> bool {
        self.started && !self.array && self.depth == 0 && !self.in_text
    }

    /// The scan of further records behind others that stand outside of an array.
    pub(super) fn of_lines() -> RecordScan {
        RecordScan { started: true, ..RecordScan::default() }
    }

    /// The scan of a text as it is before its record that goes on behind a block.
    pub(super) fn before_open(self) -> RecordScan {
        let last = if self.array { LastByte::Comma } else { LastByte::Start };
        RecordScan { started: true, array: self.array, last, ..RecordScan::default() }
    }
}

impl Cuts {
    /// What is open at the end of all text is a record that is cut short; its parser says so.
    pub(super) fn close(&mut self, end: usize) {
        self.records.extend(self.open.take().map(|start| (start, end)));
    }

    /// Notes a fault, unless there is one before it.
    pub(super) fn wrong(&mut self, at: usize, what: &'static str) {
        self.fault.get_or_insert((at, what));
    }
}

/// Line ends that are looked at for one between two records.
const LINE_ENDS: usize = 64;

/// Where the last line begins that begins a record, of records that stand one behind the other outside of an array.
///
/// JSON has no line end within a text, and no brace that opens behind one that closes but between two records.
pub(super) fn last_line_of_record(text: &[u8]) -> Option<usize> {
    let is_blank = |byte: &&u8| byte.is_ascii_whitespace();
    let is_between = |end: &usize| {
        let (before, behind) = text.split_at(end + 1);
        before.iter().rev().find(|byte| !is_blank(byte)) == Some(&b'}')
            && behind.iter().find(|byte| !is_blank(byte)) == Some(&b'{')
    };
    memchr::memrchr_iter(b'\n', text).take(LINE_ENDS).find(is_between).map(|end| end + 1)
}

/// What is wrong with an array whose end is missing.
pub(super) const NO_END: &str = "The array of records does not end: it may be cut short.";

/// The error of a fault between records.
pub(super) fn between_records(shown: &str, line: u64, what: &str) -> Error {
    Error::new(ErrorKind::Data, what)
        .in_file(shown, Some(line), None)
        .next("A table is an array of records, [{\"farm\": \"F1\"}, …], or a record a line.")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("{\"a\":1}\n{\"a\":\"}\\\"\"}\n", &["{\"a\":1}", "{\"a\":\"}\\\"\"}"])]
    #[case("[{\"a\":[1]},\n {\"a\":{}}]\n", &["{\"a\":[1]}", "{\"a\":{}}"])]
    #[case("[]", &[])]
    #[case(" 7\n{}", &["7", "{}"])]
    fn records_are_found(#[case] text: &str, #[case] expected: &[&str]) {
        let found = RecordScan::default().records(text.as_bytes());
        assert_eq!(found.fault, None);
        let found: Vec<&str> = found.records.iter().filter_map(|(a, b)| text.get(*a..*b)).collect();
        assert_eq!(found, expected);
    }

    #[rstest]
    #[case("[{}{}]", 3)]
    #[case("[{},,{}]", 4)]
    #[case("[{},]", 4)]
    #[case("[,{}]", 1)]
    #[case("[{}]]", 4)]
    #[case("[{}] {}", 5)]
    #[case("{},\n{}", 2)]
    fn what_stands_between_records_is_checked(#[case] text: &str, #[case] at: usize) {
        assert_eq!(RecordScan::default().records(text.as_bytes()).fault.map(|(at, _)| at), Some(at));
    }

    #[rstest]
    #[case("{\"a\":1}\n{\"a\":2}\n{\"a\":", Some(16))]
    #[case("{\"a\":1}\n\n  {\"a\":2}\n", Some(9))]
    #[case("{\"a\":1}\r\n{", Some(9))]
    #[case("{\"a\":\n{\"b\":1}\n}", None)]
    #[case("{\"a\":1}\n", None)]
    fn lines_that_begin_a_record_are_found(#[case] text: &str, #[case] expected: Option<usize>) {
        assert_eq!(last_line_of_record(text.as_bytes()), expected);
    }

    #[test]
    fn an_array_must_end() {
        let mut scan = RecordScan::default();
        scan.records(b"[{}, {}");
        assert!(!scan.may_end());
        scan.records(b"]\n");
        assert!(scan.may_end());
    }
}
