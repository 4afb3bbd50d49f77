//! What stands before the values of records, compared whole.
//!
//! Records of a file have the same fields in the same order most times, written in the same way. So what stood before a
//! value in an earlier record, from the value before it on, is remembered as the *lead* of that value: `,"farm":`. Where the
//! same bytes stand again, their names, separators and white space need no other look. After each field up to
//! four leads are remembered, so that records that lack some fields, or have them in another order, are read so too. The leads
//! of one whole record are its *form*: a record that has the same needs no look-ups and has no name twice.

use super::direct::JsonPlace;

/// Leads that are remembered after one field.
const MOST: usize = 4;

/// Bytes of a lead that are compared at once.
const SHORT: usize = 32;

/// Bytes of the longest lead that is remembered.
const LONGEST: usize = 256;

/// What stood before a value, or at the end of a record.
struct Lead {
    /// The first bytes of it in words, with the bits of each that count.
    words: [(u128, u128); SHORT / 16],
    bytes: Box<[u8]>,
    /// The field whose value follows; none at the end of a record.
    value: Option<(u32, JsonPlace)>,
    /// The fields whose names stand in it.
    names: Box<[u32]>,
}

impl Lead {
    /// Whether it stands at a place of a text.
    #[inline(always)]
    fn stands(&self, text: &[u8], at: usize) -> bool {
        let Some(window) = text.get(at..).and_then(|rest| rest.first_chunk::<SHORT>()) else {
            return text.get(at..).is_some_and(|rest| rest.starts_with(&self.bytes));
        };
        starts_with(window, &self.words)
            && (self.bytes.len() <= SHORT || text.get(at..).is_some_and(|rest| rest.starts_with(&self.bytes)))
    }
}

/// The leads of one record, in their order: the next one most often has the same.
#[derive(Default)]
pub(super) struct RecordForm {
    steps: Vec<FormStep>,
    /// How many records had other leads beyond those that had these.
    missed: u32,
    /// How often it was made anew.
    made: u32,
}

/// A lead, at its place in a record.
struct FormStep {
    words: [(u128, u128); SHORT / 16],
    length: usize,
    /// What becomes of the value behind it; none at the end of a record.
    place: Option<JsonPlace>,
}

/// Records more with other leads than with those of a form, from which on another form is tried.
const MISSED: u32 = 16;

/// Forms that are tried.
const FORMS: u32 = 8;

impl RecordForm {
    /// Reads a record by the form: `value` reads one that starts at a place, as it is meant for, and gives where it ends. Gives
    /// where the record ends; none where it has other leads, or a value that is not plain.
    #[inline(always)]
    pub(super) fn read(
        &mut self,
        text: &[u8],
        mut at: usize,
        mut value: impl FnMut(usize, JsonPlace) -> Option<usize>,
    ) -> Option<usize> {
        for step in &self.steps {
            let window = text.get(at..).and_then(|rest| rest.first_chunk::<SHORT>());
            if !window.is_some_and(|window| starts_with(window, &step.words)) {
                break;
            }
            at += step.length;
            let Some(place) = step.place else {
                self.missed = self.missed.saturating_sub(1);
                return Some(at);
            };
            let Some(end) = value(at, place) else { break };
            at = end;
        }
        self.missed += u32::from(!self.steps.is_empty());
        None
    }

    /// Whether another form should be made of the next record, as few have this one.
    pub(super) fn is_stale(&self) -> bool {
        self.missed >= MISSED && self.made < FORMS
    }

    /// Takes the form of a record that was read field by field; none if a lead is long, or too many forms were tried.
    fn take(&mut self, text: &[u8], record: &[Traced]) {
        let is_wanted = self.steps.is_empty() || self.missed >= MISSED;
        if !is_wanted || self.made >= FORMS {
            return;
        }
        (self.made, self.missed) = (self.made + 1, 0);
        let step = |lead: &Traced| {
            let bytes = text.get(lead.bytes.0..lead.bytes.1).filter(|bytes| bytes.len() <= SHORT)?;
            let place = lead.value.map(|(_, place)| place);
            Some(FormStep { words: words_of(bytes), length: bytes.len(), place })
        };
        let is_last = self.made == FORMS;
        let steps = record.iter().map(step).collect::<Option<Vec<FormStep>>>();
        self.steps = steps.filter(|_| !is_last).unwrap_or_default();
    }
}

/// Whether bytes begin with these words, of which some bits count.
#[inline(always)]
fn starts_with(window: &[u8; SHORT], words: &[(u128, u128); SHORT / 16]) -> bool {
    let (pieces, _) = window.as_chunks::<16>();
    let other =
        |(piece, (word, bits)): (&[u8; 16], &(u128, u128))| (u128::from_le_bytes(*piece) ^ word) & bits;
    pieces.iter().zip(words).fold(0, |all, pair| all | other(pair)) == 0
}

/// The first bytes of a lead in words, with the bits of each that count.
fn words_of(bytes: &[u8]) -> [(u128, u128); SHORT / 16] {
    let mut words = [(0, 0); SHORT / 16];
    for (place, byte) in bytes.iter().take(SHORT).enumerate() {
        if let Some((word, bits)) = words.get_mut(place / 16) {
            *word |= u128::from(*byte) << (place % 16 * 8);
            *bits |= u128::from(u8::MAX) << (place % 16 * 8);
        }
    }
    words
}

/// The leads of the records so far. Fields are known by numbers from 1 on; 0 is the start of a record.
#[derive(Default)]
pub(super) struct Leads {
    /// Those that stood after each field, the longest first.
    after: Vec<Vec<Lead>>,
    /// Those of the record that is read.
    trace: Vec<Traced>,
    /// The names that stand in them, one after the other.
    names: Vec<u32>,
    /// Those of one record.
    pub(super) form: RecordForm,
}

/// A lead of the record that is read.
struct Traced {
    after: u32,
    bytes: (usize, usize),
    /// Where its names end among all of the record.
    names: usize,
    value: Option<(u32, JsonPlace)>,
}

/// What is known to follow a value.
pub(super) struct Expected<'l> {
    /// Where the next value starts, or the record ends.
    pub(super) at: usize,
    /// The fields whose names stand between.
    pub(super) names: &'l [u32],
    /// The field of the next value; none at the end of the record.
    pub(super) value: Option<(u32, JsonPlace)>,
}

impl Leads {
    /// What follows a field's value, if a lead that is known stands there.
    #[inline(always)]
    pub(super) fn expected(&self, after: u32, text: &[u8], at: usize) -> Option<Expected<'_>> {
        let lead = self.after.get(after as usize)?.iter().find(|lead| lead.stands(text, at))?;
        Some(Expected { at: at + lead.bytes.len(), names: &lead.names, value: lead.value })
    }

    /// A record is read field by field from here on.
    pub(super) fn start(&mut self) {
        self.trace.clear();
        self.names.clear();
    }

    /// The name of a field was read.
    pub(super) fn name(&mut self, field: u32) {
        self.names.push(field);
    }

    /// What stands between these places was read, after one field's value and before another's, or the record's end.
    pub(super) fn read(&mut self, after: u32, bytes: (usize, usize), value: Option<(u32, JsonPlace)>) {
        self.trace.push(Traced { after, bytes, names: self.names.len(), value });
    }

    /// Remembers the leads of the record that was read: it was plain.
    pub(super) fn remember(&mut self, text: &[u8]) {
        self.form.take(text, &self.trace);
        let mut first = 0;
        for Traced { after, bytes: (from, to), names, value } in self.trace.drain(..) {
            let names = self.names.get(std::mem::replace(&mut first, names)..names).unwrap_or_default();
            let bytes = text.get(from..to).unwrap_or_default();
            if self.after.len() <= after as usize {
                self.after.resize_with(after as usize + 1, Vec::new);
            }
            let Some(known) = self.after.get_mut(after as usize) else { continue };
            let is_new = known.iter().all(|lead| *lead.bytes != *bytes);
            if is_new && known.len() < MOST && bytes.len() <= LONGEST {
                // The longest first: one may be the start of another that has more white space.
                let place = known.partition_point(|lead| lead.bytes.len() > bytes.len());
                let lead = Lead { words: words_of(bytes), bytes: bytes.into(), value, names: names.into() };
                known.insert(place, lead);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// The leads of records whose fields 1 and 2 these texts stand before, and the end.
    fn of(leads: &[&str]) -> Leads {
        let mut known = Leads::default();
        for lead in leads {
            let text = format!("{{\"x\":0{lead}0}}");
            known.start();
            known.name(1);
            known.read(0, (0, 5), Some((1, JsonPlace::Unneeded)));
            known.name(2);
            known.read(1, (6, 6 + lead.len()), Some((2, JsonPlace::Field(7))));
            known.read(2, (7 + lead.len(), 8 + lead.len()), None);
            known.remember(text.as_bytes());
        }
        known
    }

    const LONG: &str = ",\"a field whose name has more than thirty-two bytes\":";

    #[rstest]
    #[case::at_the_end(&[",\"a\":"], ",\"a\":", Some(5))]
    #[case::before_more(&[",\"a\":"], ",\"a\":1234567890123456789012345678901234567890", Some(5))]
    #[case::another(&[",\"a\":"], ",\"b\":1", None)]
    #[case::cut_short(&[",\"a\":"], ",\"a", None)]
    #[case::one_of_two(&[",\"a\":", ",\"b\":"], ",\"b\":1", Some(5))]
    #[case::more_white_space(&[",\"a\":", ",\"a\": "], ",\"a\": 1", Some(6))]
    #[case::less_white_space(&[",\"a\": ", ",\"a\":"], ",\"a\":1", Some(5))]
    #[case::long(&[LONG], ",\"a field whose name has more than thirty-two bytes\":1", Some(LONG.len()))]
    #[case::long_and_other_at_its_end(&[LONG], ",\"a field whose name has more than thirty-two letters\":1", None)]
    #[case::a_fifth(&["1", "2", "3", "4", "5"], "5", None)]
    fn leads_are_found(#[case] known: &[&str], #[case] text: &str, #[case] length: Option<usize>) {
        let text = format!("{{\"x\":0{text}");
        let known = of(known);
        let found = known.expected(1, text.as_bytes(), 6);
        assert_eq!(found.as_ref().map(|found| found.at - 6), length);
        if let Some(found) = found {
            assert_eq!((found.names, found.value), (&[2][..], Some((2, JsonPlace::Field(7)))));
        }
    }

    #[test]
    fn a_record_begins_and_ends_with_leads() {
        let known = of(&[",\"a\":"]);
        let start = known.expected(0, b"{\"x\":0,\"a\":0}", 0);
        assert_eq!(start.map(|start| (start.at, start.names)), Some((5, &[1][..])));
        let end = known.expected(2, b"{\"x\":0,\"a\":0}\n", 12);
        assert_eq!(end.map(|end| (end.at, end.names, end.value)), Some((13, &[][..], None)));
        assert!(known.expected(3, b"{\"x\":0,\"a\":0}", 12).is_none());
    }

    /// Where a record ends by a form, its values being single digits.
    fn read_by(form: &mut RecordForm, record: &str) -> Option<usize> {
        let text = format!("{record}{}", " ".repeat(SHORT));
        form.read(text.as_bytes(), 0, |at, _| text.as_bytes().get(at)?.is_ascii_digit().then_some(at + 1))
    }

    #[rstest]
    #[case::the_same("{\"x\":1,\"a\":2}", true)]
    #[case::another_name("{\"x\":1,\"b\":2}", false)]
    #[case::one_field("{\"x\":1}", false)]
    #[case::one_more("{\"x\":1,\"a\":2,\"b\":3}", false)]
    #[case::white_space("{\"x\":1, \"a\":2}", false)]
    #[case::not_plain("{\"x\":true,\"a\":2}", false)]
    fn a_form_reads_records_like_its_own(#[case] record: &str, #[case] is_alike: bool) {
        let mut form = of(&[",\"a\":"]).form;
        assert_eq!(read_by(&mut form, record), is_alike.then_some(record.len()));
    }

    #[test]
    fn a_form_that_few_have_is_made_anew_some_times() {
        // One that is not missed stays, whatever is read field by field.
        let mut known = of(&[",\"a\":", ",\"b\":"]);
        for round in 1..=FORMS {
            assert_eq!(known.form.made, round);
            assert!(!known.form.is_stale());
            for _ in 0..MISSED {
                read_by(&mut known.form, "{\"x\":1,\"z\":2}");
            }
            assert_eq!(known.form.is_stale(), round < FORMS);
            let text = "{\"x\":1,\"z\":2}";
            known.start();
            known.read(0, (0, 5), Some((1, JsonPlace::Unneeded)));
            known.read(1, (6, 11), Some((2, JsonPlace::Field(7))));
            known.read(2, (12, 13), None);
            known.remember(text.replace('z', if round % 2 == 0 { "a" } else { "y" }).as_bytes());
        }
        assert!(known.form.steps.is_empty());
    }

    #[test]
    fn what_is_too_long_is_not_remembered() {
        let name = "a".repeat(LONGEST);
        let known = of(&[&format!(",\"{name}\":")]);
        assert!(known.expected(1, format!("{{\"x\":0,\"{name}\":0}}").as_bytes(), 6).is_none());
    }
}
