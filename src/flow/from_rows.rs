//! A flow over values of a user's own struct, through serde.

use std::fmt;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_schema::{Field, Schema};
use churn_core::names::name;
use churn_core::scalar::array_of;
use churn_core::{Error, ErrorKind, Result, Scalar, Type};
use serde::Serialize;
use serde::ser::{
    self, Impossible, SerializeMap, SerializeSeq, SerializeStruct, SerializeTuple, SerializeTupleStruct,
};

use super::Flow;

/// What a value becomes: a cell, or a record whose fields become columns named by path.
enum Shape {
    Cell(Scalar),
    Record(Vec<(String, Shape)>),
}

/// Why a value can be no cell.
#[derive(Debug)]
struct Unfit(String);

impl fmt::Display for Unfit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Unfit {}

impl ser::Error for Unfit {
    fn custom<T: fmt::Display>(message: T) -> Unfit {
        Unfit(message.to_string())
    }
}

type Made<T = Shape> = std::result::Result<T, Unfit>;

/// Makes cells and records of values.
struct Shaper;

macro_rules! cells {
    ($($method:ident $kind:ty: $value:ident => $of:expr),*) => {$(
        fn $method(self, $value: $kind) -> Made {
            Ok(Shape::Cell($of))
        }
    )*};
}

/// A whole number that has room in a column.
fn whole(value: impl TryInto<i64> + fmt::Display + Copy) -> Made {
    let fits = value.try_into().map(|value| Shape::Cell(Scalar::Int(value)));
    fits.map_err(|_| Unfit(format!("{value} is beyond the largest whole number")))
}

impl ser::Serializer for Shaper {
    type Ok = Shape;
    type Error = Unfit;
    type SerializeSeq = Items;
    type SerializeTuple = Items;
    type SerializeTupleStruct = Items;
    type SerializeTupleVariant = Impossible<Shape, Unfit>;
    type SerializeMap = Fields;
    type SerializeStruct = Fields;
    type SerializeStructVariant = Impossible<Shape, Unfit>;

    cells! {
        serialize_bool bool: v => Scalar::Bool(v),
        serialize_i8 i8: v => Scalar::Int(v.into()),
        serialize_i16 i16: v => Scalar::Int(v.into()),
        serialize_i32 i32: v => Scalar::Int(v.into()),
        serialize_i64 i64: v => Scalar::Int(v),
        serialize_u8 u8: v => Scalar::Int(v.into()),
        serialize_u16 u16: v => Scalar::Int(v.into()),
        serialize_u32 u32: v => Scalar::Int(v.into()),
        serialize_f32 f32: v => Scalar::Float(v.into()),
        serialize_f64 f64: v => Scalar::Float(v),
        serialize_char char: v => Scalar::Text(v.into()),
        serialize_str &str: v => Scalar::Text(v.into()),
        serialize_bytes &[u8]: v => Scalar::Binary(v.into()),
        serialize_unit_struct &'static str: _name => Scalar::Null
    }

    fn serialize_i128(self, value: i128) -> Made {
        whole(value)
    }

    fn serialize_u64(self, value: u64) -> Made {
        whole(value)
    }

    fn serialize_u128(self, value: u128) -> Made {
        whole(value)
    }

    fn serialize_none(self) -> Made {
        self.serialize_unit()
    }

    fn serialize_unit(self) -> Made {
        Ok(Shape::Cell(Scalar::Null))
    }

    fn serialize_some<T: Serialize + ?Sized>(self, value: &T) -> Made {
        value.serialize(self)
    }

    fn serialize_newtype_struct<T: Serialize + ?Sized>(self, _: &'static str, value: &T) -> Made {
        value.serialize(self)
    }

    /// A choice without values is the text of its name.
    fn serialize_unit_variant(self, _: &'static str, _: u32, variant: &'static str) -> Made {
        self.serialize_str(variant)
    }

    fn serialize_newtype_variant<T: Serialize + ?Sized>(
        self,
        _: &'static str,
        _: u32,
        variant: &'static str,
        _: &T,
    ) -> Made {
        Err(Unfit(format!("the choice {variant} has a value of its own, and a cell has one type")))
    }

    fn serialize_tuple_variant(
        self,
        _: &'static str,
        _: u32,
        variant: &'static str,
        _: usize,
    ) -> Made<Impossible<Shape, Unfit>> {
        Err(Unfit(format!("the choice {variant} has values of its own, and a cell has one type")))
    }

    fn serialize_struct_variant(
        self,
        name: &'static str,
        number: u32,
        variant: &'static str,
        length: usize,
    ) -> Made<Impossible<Shape, Unfit>> {
        self.serialize_tuple_variant(name, number, variant, length)
    }

    fn serialize_seq(self, _: Option<usize>) -> Made<Items> {
        Ok(Items(Vec::new()))
    }

    fn serialize_tuple(self, _: usize) -> Made<Items> {
        Ok(Items(Vec::new()))
    }

    fn serialize_tuple_struct(self, _: &'static str, _: usize) -> Made<Items> {
        Ok(Items(Vec::new()))
    }

    fn serialize_map(self, _: Option<usize>) -> Made<Fields> {
        Ok(Fields { made: Vec::new(), key: None })
    }

    fn serialize_struct(self, _: &'static str, _: usize) -> Made<Fields> {
        Ok(Fields { made: Vec::new(), key: None })
    }
}

/// The values of a list.
struct Items(Vec<Scalar>);

impl Items {
    fn add<T: Serialize + ?Sized>(&mut self, value: &T) -> Made<()> {
        match value.serialize(Shaper)? {
            Shape::Cell(value) => self.0.push(value),
            Shape::Record(_) => return Err(Unfit("a list holds records, and a cell has one type".into())),
        }
        Ok(())
    }

    fn made(self) -> Made {
        let kind = self.0.iter().try_fold(Type::Null, |kind, value| kind.common_type(&value.kind()));
        let kind = kind.ok_or_else(|| Unfit("a list holds values of several types".into()))?;
        let values = self.0.iter().map(|value| churn_expr::converted(value, &kind).unwrap_or(Scalar::Null));
        Ok(Shape::Cell(Scalar::List(values.collect(), kind)))
    }
}

macro_rules! lists {
    ($($trait:ident $method:ident),*) => {$(
        impl $trait for Items {
            type Ok = Shape;
            type Error = Unfit;

            fn $method<T: Serialize + ?Sized>(&mut self, value: &T) -> Made<()> {
                self.add(value)
            }

            fn end(self) -> Made {
                self.made()
            }
        }
    )*};
}

lists!(SerializeSeq serialize_element, SerializeTuple serialize_element, SerializeTupleStruct serialize_field);

/// The fields of a record.
struct Fields {
    made: Vec<(String, Shape)>,
    key: Option<String>,
}

impl SerializeStruct for Fields {
    type Ok = Shape;
    type Error = Unfit;

    fn serialize_field<T: Serialize + ?Sized>(&mut self, name: &'static str, value: &T) -> Made<()> {
        self.made.push((name.to_owned(), value.serialize(Shaper)?));
        Ok(())
    }

    fn end(self) -> Made {
        Ok(Shape::Record(self.made))
    }
}

impl SerializeMap for Fields {
    type Ok = Shape;
    type Error = Unfit;

    fn serialize_key<T: Serialize + ?Sized>(&mut self, key: &T) -> Made<()> {
        self.key = match key.serialize(Shaper)? {
            Shape::Cell(key) if !key.is_null() => Some(key.plain()),
            _ => return Err(Unfit("a field is called by something that is no text".into())),
        };
        Ok(())
    }

    fn serialize_value<T: Serialize + ?Sized>(&mut self, value: &T) -> Made<()> {
        let key = self.key.take().ok_or_else(|| Unfit("a field has no name".into()))?;
        self.made.push((key, value.serialize(Shaper)?));
        Ok(())
    }

    fn end(self) -> Made {
        Ok(Shape::Record(self.made))
    }
}

/// The columns of the rows so far, in order of first appearance.
#[derive(Default)]
struct Columns {
    columns: Vec<(String, Type, Vec<Scalar>)>,
    rows: usize,
}

impl Columns {
    /// Takes a row in; columns that it lacks are null in it.
    fn row(&mut self, fields: Vec<(String, Shape)>) -> Made<()> {
        self.fields("", fields)?;
        self.rows += 1;
        self.columns.iter_mut().for_each(|(_, _, cells)| cells.resize(self.rows, Scalar::Null));
        Ok(())
    }

    fn fields(&mut self, path: &str, fields: Vec<(String, Shape)>) -> Made<()> {
        for (field, shape) in fields {
            let column = format!("{path}{field}");
            match shape {
                Shape::Record(fields) => self.fields(&format!("{column}."), fields)?,
                Shape::Cell(value) => self.cell(column, value)?,
            }
        }
        Ok(())
    }

    fn cell(&mut self, column: String, value: Scalar) -> Made<()> {
        let at = match self.columns.iter().position(|(other, ..)| *other == column) {
            Some(at) => at,
            None => {
                self.columns.push((column, Type::Null, vec![Scalar::Null; self.rows]));
                self.columns.len() - 1
            }
        };
        let Some((column, kind, cells)) = self.columns.get_mut(at) else { return Ok(()) };
        let shared = kind.common_type(&value.kind());
        let unlike = || Unfit(format!("{} is {kind} before and {} here", name(column), value.kind()));
        *kind = shared.ok_or_else(unlike)?;
        cells.push(value);
        Ok(())
    }

    fn batch(&self) -> Result<RecordBatch> {
        let (mut fields, mut arrays) = (Vec::new(), Vec::new());
        for (column, kind, cells) in &self.columns {
            let cells: Vec<Scalar> =
                cells.iter().map(|cell| churn_expr::converted(cell, kind).unwrap_or(Scalar::Null)).collect();
            arrays.push(array_of(&cells.iter().collect::<Vec<_>>(), kind));
            fields.push(Field::new(column, kind.arrow(), true));
        }
        RecordBatch::try_new(Arc::new(Schema::new(fields)), arrays).map_err(churn_core::arrow_error)
    }
}

impl Flow {
    /// Starts from values of a struct, whose fields become the columns; they are held in memory.
    ///
    /// `None` is null, a list is a list, a record within a record becomes columns named by path, and a choice without values
    /// is the text of its name. Dates are texts, as serde writes them: cast them in a step.
    ///
    /// # Errors
    /// There is no row, and so no columns are known; a value is no record; a field is of several types, or of one that a cell
    /// cannot have.
    ///
    /// ```
    /// #[derive(serde::Serialize)]
    /// struct Delivery { farm: &'static str, litres: Option<f64> }
    ///
    /// let rows = [Delivery { farm: "F001", litres: Some(120.5) }, Delivery { farm: "F002", litres: None }];
    /// let table = churn::Flow::of_rows(rows)?.filter("litres > 100").run()?;
    /// assert_eq!(table.column::<String>("farm")?, ["F001"]);
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn of_rows<T: Serialize>(rows: impl IntoIterator<Item = T>) -> Result<Flow> {
        let mut columns = Columns::default();
        for row in rows {
            let place = columns.rows + 1;
            let taken = match row.serialize(Shaper) {
                Ok(Shape::Record(fields)) => columns.row(fields),
                Ok(Shape::Cell(_)) => Err(Unfit("it is no record with fields".into())),
                Err(unfit) => Err(unfit),
            };
            taken.map_err(|Unfit(why)| {
                Error::new(ErrorKind::Type, format!("Row {place} cannot become a row of a table: {why}."))
            })?;
        }
        if columns.columns.is_empty() {
            return Err(Error::new(ErrorKind::Input, "There is no row, and so no columns are known."));
        }
        Flow::batches_of(vec![columns.batch()?])
    }
}
