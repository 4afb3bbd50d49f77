//! Where the records of a block end: a walk over their bytes by the schema, which decodes nothing.
//!
//! A block says how many records it holds, and its decoder believes it: of one that says too few it would never come to an
//! end. So a block is walked before it is decoded. Encodings are those of the specification, 1.12.

use std::collections::HashMap;
use std::io::{Error, ErrorKind, Result};

use serde_json::Value;

/// How deep values may stand in one another.
const DEEPEST: usize = 64;

/// Items of a list, and records of a block, that take no bytes, at most: nothing else bounds how many a few bytes can claim.
const MOST_EMPTY: u64 = 1 << 20;

/// How a value is encoded.
#[derive(Clone, Debug)]
enum Shape {
    /// So many bytes.
    Fixed(usize),
    /// A number of as many bytes as it needs.
    Number,
    /// Bytes or text, behind their length.
    Bytes,
    /// Values one after the other.
    Record(Vec<usize>),
    /// Blocks of items, each with its key if they have keys.
    Items { item: usize, has_keys: bool },
    /// The number of a branch, and its value.
    Union(Vec<usize>),
}

/// The encoding of the records of a file.
#[derive(Clone, Debug, Default)]
pub(super) struct RecordShape {
    /// Shapes by number; a schema may refer to one that stands before.
    shapes: Vec<Shape>,
    root: usize,
}

impl RecordShape {
    /// Of a schema as JSON.
    pub(super) fn of(schema: &str) -> Result<RecordShape> {
        let schema: Value = serde_json::from_str(schema).map_err(|_| invalid("its schema is no JSON"))?;
        let mut found = Shapes::default();
        let root = found.shape(&schema, "", 0)?;
        Ok(RecordShape { shapes: found.shapes, root })
    }

    /// Checks that some bytes are so many records, and nothing else.
    pub(super) fn holds(&self, records: u64, bytes: &[u8]) -> Result<()> {
        if bytes.is_empty() && records > MOST_EMPTY {
            return Err(invalid("a block has too many records that take no bytes"));
        }
        let mut rest = bytes;
        for _ in 0..records {
            if rest.is_empty() && !bytes.is_empty() {
                return Err(invalid("a block holds fewer records than it says"));
            }
            self.walk(self.root, &mut rest, 0)?;
        }
        if rest.is_empty() { Ok(()) } else { Err(invalid("a block holds more records than it says")) }
    }

    /// Takes a value off the front.
    fn walk(&self, shape: usize, bytes: &mut &[u8], depth: usize) -> Result<()> {
        if depth > DEEPEST {
            return Err(invalid("its values stand too deep in one another"));
        }
        match self.shapes.get(shape) {
            Some(Shape::Fixed(length)) => skip(*length, bytes),
            Some(Shape::Number) => number(bytes).map(|_| ()),
            Some(Shape::Bytes) => {
                let length = usize::try_from(number(bytes)?).map_err(|_| invalid("a length is negative"))?;
                skip(length, bytes)
            }
            Some(Shape::Record(fields)) => {
                fields.iter().try_for_each(|field| self.walk(*field, bytes, depth + 1))
            }
            Some(Shape::Items { item, has_keys }) => self.items(*item, *has_keys, bytes, depth),
            Some(Shape::Union(branches)) => {
                let branch = usize::try_from(number(bytes)?).ok().and_then(|number| branches.get(number));
                let branch = branch.ok_or_else(|| invalid("a union has no such branch"))?;
                self.walk(*branch, bytes, depth + 1)
            }
            None => Err(invalid("its schema lacks a type")),
        }
    }

    /// Takes the blocks of items of a list off the front; the last one is empty.
    fn items(&self, item: usize, has_keys: bool, bytes: &mut &[u8], depth: usize) -> Result<()> {
        loop {
            let count = number(bytes)?;
            if count == 0 {
                return Ok(());
            }
            // A negative number of items has their length behind it.
            if count < 0 {
                number(bytes)?;
            }
            let mut empty = 0;
            for _ in 0..count.unsigned_abs() {
                let before = bytes.len();
                if has_keys {
                    let length = number(bytes)?;
                    skip(usize::try_from(length).map_err(|_| invalid("a length is negative"))?, bytes)?;
                }
                self.walk(item, bytes, depth + 1)?;
                empty += u64::from(bytes.len() == before);
                if empty > MOST_EMPTY {
                    return Err(invalid("a list has too many items that take no bytes"));
                }
            }
        }
    }
}

fn invalid(what: &str) -> Error {
    Error::new(ErrorKind::InvalidData, what)
}

fn cut_short() -> Error {
    invalid("a block ends within a record")
}

fn skip(length: usize, bytes: &mut &[u8]) -> Result<()> {
    *bytes = bytes.get(length..).ok_or_else(cut_short)?;
    Ok(())
}

fn number(bytes: &mut &[u8]) -> Result<i64> {
    super::container::number(bytes)?.ok_or_else(cut_short)
}

/// The shapes of a schema as they are found.
#[derive(Default)]
struct Shapes {
    shapes: Vec<Shape>,
    /// Types that have names, by their full names.
    named: HashMap<String, usize>,
}

impl Shapes {
    fn add(&mut self, shape: Shape) -> usize {
        self.shapes.push(shape);
        self.shapes.len() - 1
    }

    /// The shape of a schema, where names without a point are of this namespace.
    fn shape(&mut self, schema: &Value, namespace: &str, depth: usize) -> Result<usize> {
        if depth > DEEPEST {
            return Err(invalid("its types stand too deep in one another"));
        }
        match schema {
            Value::String(name) => self.by_name(name, namespace),
            Value::Array(branches) => {
                let branches = branches.iter().map(|branch| self.shape(branch, namespace, depth + 1));
                let branches = branches.collect::<Result<_>>()?;
                Ok(self.add(Shape::Union(branches)))
            }
            Value::Object(object) => {
                let part = |key: &str| object.get(key).ok_or_else(|| invalid("its schema lacks a part"));
                let text = |key: &str| object.get(key).and_then(Value::as_str);
                let Some(kind) = text("type") else { return self.shape(part("type")?, namespace, depth + 1) };
                let inner = text("namespace").unwrap_or(namespace);
                match kind {
                    "record" | "error" => {
                        let own = self.add(Shape::Record(Vec::new()));
                        let full = full_name(text("name").unwrap_or_default(), inner);
                        let within = full.rsplit_once('.').map(|(namespace, _)| namespace.to_owned());
                        self.named.insert(full, own);
                        let mut fields = Vec::new();
                        for field in part("fields")?.as_array().into_iter().flatten() {
                            let kind = field.get("type").ok_or_else(|| invalid("its schema lacks a part"))?;
                            fields.push(self.shape(kind, within.as_deref().unwrap_or(inner), depth + 1)?);
                        }
                        if let Some(shape) = self.shapes.get_mut(own) {
                            *shape = Shape::Record(fields);
                        }
                        Ok(own)
                    }
                    "enum" | "fixed" => {
                        let size = object.get("size").and_then(Value::as_u64).map(usize::try_from);
                        let shape = match size {
                            Some(Ok(size)) if kind == "fixed" => Shape::Fixed(size),
                            _ => Shape::Number,
                        };
                        let own = self.add(shape);
                        self.named.insert(full_name(text("name").unwrap_or_default(), inner), own);
                        Ok(own)
                    }
                    "array" => {
                        let item = self.shape(part("items")?, namespace, depth + 1)?;
                        Ok(self.add(Shape::Items { item, has_keys: false }))
                    }
                    "map" => {
                        let item = self.shape(part("values")?, namespace, depth + 1)?;
                        Ok(self.add(Shape::Items { item, has_keys: true }))
                    }
                    name => self.by_name(name, namespace),
                }
            }
            _ => Err(invalid("its schema is none")),
        }
    }

    /// A type of the specification, or one that was named before.
    fn by_name(&mut self, name: &str, namespace: &str) -> Result<usize> {
        let shape = match name {
            "null" => Shape::Fixed(0),
            "boolean" => Shape::Fixed(1),
            "float" => Shape::Fixed(4),
            "double" => Shape::Fixed(8),
            "int" | "long" => Shape::Number,
            "bytes" | "string" => Shape::Bytes,
            _ => {
                let found = self.named.get(&full_name(name, namespace)).or_else(|| self.named.get(name));
                return found.copied().ok_or_else(|| invalid("its schema lacks a type"));
            }
        };
        Ok(self.add(shape))
    }
}

fn full_name(name: &str, namespace: &str) -> String {
    if name.contains('.') || namespace.is_empty() { name.to_owned() } else { format!("{namespace}.{name}") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Each case: a field's type, and the bytes of one record.
    #[rstest]
    #[case::null(r#""null""#, &[])]
    #[case::boolean(r#""boolean""#, &[1])]
    #[case::long(r#""long""#, &[0x80, 0x80, 1])]
    #[case::double(r#"{"type": "double"}"#, &[0; 8])]
    #[case::text(r#""string""#, &[4, b'a', b'b'])]
    #[case::a_date(r#"{"type": "int", "logicalType": "date"}"#, &[2])]
    #[case::a_fixed(r#"{"type": "fixed", "name": "f", "size": 3}"#, &[1, 2, 3])]
    #[case::an_enum(r#"{"type": "enum", "name": "g", "symbols": ["A", "B"]}"#, &[2])]
    #[case::a_union(r#"["null", "string"]"#, &[2, 2, b'x'])]
    #[case::the_other_branch(r#"["null", "string"]"#, &[0])]
    #[case::an_array(r#"{"type": "array", "items": "int"}"#, &[4, 2, 4, 0])]
    #[case::an_array_with_its_length(r#"{"type": "array", "items": "int"}"#, &[3, 4, 2, 4, 0])]
    #[case::a_map(r#"{"type": "map", "values": "boolean"}"#, &[2, 2, b'k', 1, 0])]
    #[case::a_record(r#"{"type": {"type": "record", "name": "r", "fields": [{"name": "x", "type": "float"}]}}"#, &[0; 4])]
    #[case::a_name_within_a_namespace(
        r#"{"type": "record", "name": "o.r", "fields": [
            {"name": "a", "type": {"type": "fixed", "name": "two", "size": 2}},
            {"name": "b", "type": "two"}, {"name": "c", "type": "o.two"}]}"#, &[0; 6])]
    #[case::a_list_of_itself(
        r#"{"type": "record", "name": "n", "fields": [{"name": "next", "type": ["null", "n"]}]}"#, &[2, 2, 0])]
    fn records_end_where_the_schema_says(#[case] kind: &str, #[case] one: &[u8]) {
        let schema = format!(
            r#"{{"type": "record", "name": "milk", "fields": [
            {{"name": "x", "type": {kind}}}, {{"name": "last", "type": "boolean"}}]}}"#
        );
        let shape = RecordShape::of(&schema).unwrap();
        let record = [one, &[1]].concat();
        for records in [1, 3] {
            let bytes = record.repeat(records);
            shape.holds(records as u64, &bytes).unwrap();
            assert!(shape.holds(records as u64 + 1, &bytes).is_err());
            assert!(shape.holds(records as u64 - 1, &bytes).is_err());
            for end in 0..bytes.len() {
                assert!(shape.holds(records as u64, &bytes[..end]).is_err(), "{end}");
            }
        }
    }

    #[rstest]
    #[case::a_branch_that_is_not_there(r#"["null"]"#, &[2])]
    #[case::a_negative_length(r#""bytes""#, &[1])]
    #[case::more_nothing_than_can_be(r#"{"type": "array", "items": "null"}"#, &[0xfe, 0xff, 0xff, 0xff, 0xff, 0xff, 1, 0])]
    #[case::a_number_without_an_end(r#""long""#, &[0xff; 12])]
    fn what_no_writer_wrote_is_refused(#[case] kind: &str, #[case] bytes: &[u8]) {
        assert!(RecordShape::of(kind).unwrap().holds(1, bytes).is_err());
    }

    #[rstest]
    #[case(r#"{"type": "record", "name": "r"}"#)]
    #[case(r#""unheard""#)]
    #[case("5")]
    #[case("{")]
    fn what_is_no_schema_is_refused(#[case] schema: &str) {
        assert!(RecordShape::of(schema).is_err());
    }

    #[test]
    fn what_refers_to_itself_without_end_is_refused() {
        let shape =
            RecordShape::of(r#"{"type": "record", "name": "n", "fields": [{"name": "x", "type": "n"}]}"#);
        assert!(shape.unwrap().holds(1, &[]).is_err());
        let deep = "[".repeat(100) + &"]".repeat(100);
        assert!(RecordShape::of(&deep).is_err());
    }
}
