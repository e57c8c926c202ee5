//! Rows that files of their own tell to be gone: by their places, or by the values that they have in some columns. Loaded when the first
//! file that they speak of is read, and kept as long as the scan.

use std::any::Any;
use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::{Array, ArrayRef, AsArray, BooleanArray};
use arrow::compute::{is_null, nullif};
use arrow::datatypes::Int64Type;
use arrow::row::{RowConverter, SortField};
use cobble_format::{FileBatches, PartReading};
use cobble_lake::deletes::{DeleteFile, Gone, GoneValues, PATH_ID, PLACE_ID};
use cobble_lake::name_mapping::Mapped;
use cobble_lake::schema::{Field, Kind};
use cobble_plan::logical::TableColumn;
use cobble_plan::scan::ScanTools;
use cobble_storage::Storage;
use cobble_types::{Code, Error, Result};

use super::fields::FileFields;
use super::offer::shape_of;
use super::{Lake, column_of};

/// A piece that is loaded once.
type Once<T> = Mutex<Option<Arc<T>>>;

pub struct LoadedGone {
    gone: Gone,
    storage: Arc<dyn Storage>,
    /// The paths of all files that are read and that places are told of; none where they are not known yet.
    paths: Option<HashSet<String>>,
    /// All fields of the table that are read.
    fields: Arc<[Field]>,
    mapping: Option<Arc<Vec<Mapped>>>,
    places: Vec<Once<Places>>,
    values: Vec<Once<Values>>,
}

/// Of each path the places of rows that are gone, in order.
struct Places {
    of: HashMap<String, Vec<u64>>,
    _room: Vec<Room>,
}

type Room = Box<dyn Any + Send + Sync>;

/// Values of gone rows, each with the number of the last change that tells it.
pub struct Values {
    /// Of each of the columns its place among those of the table, and the places of the fields within it.
    pub columns: Vec<(usize, Vec<usize>)>,
    converter: RowConverter,
    told: HashMap<Box<[u8]>, i64>,
    _room: Vec<Room>,
}

/// What a value of a map takes beside its bytes.
const EACH: u64 = 48;

fn once<T>(piece: &Once<T>, load: impl FnOnce() -> Result<T>) -> Result<Arc<T>> {
    let mut piece = piece.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = &*piece {
        return Ok(known.clone());
    }
    Ok(piece.insert(Arc::new(load()?)).clone())
}

/// The columns of a file with places. Some writers give its fields no ids.
fn of_places() -> (Vec<Field>, Vec<Mapped>) {
    let field = |id, name: &str, kind| Field { id, name: name.to_owned(), required: true, kind, comment: None };
    let fields = vec![field(PATH_ID, "file_path", Kind::String), field(PLACE_ID, "pos", Kind::Long)];
    let mapped = |field: &Field| Mapped { id: Some(field.id), names: vec![field.name.clone()], fields: vec![] };
    let mapping = fields.iter().map(mapped).collect();
    (fields, mapping)
}

/// Where the field of an id is: the place of a column, and those of the fields within it.
fn way(fields: &[Field], id: i32) -> Option<Vec<usize>> {
    let place = fields.iter().position(|field| field.has(id))?;
    if fields[place].id == id {
        return Some(vec![place]);
    }
    let Kind::Struct(inner) = &fields[place].kind else { return None };
    Some([place].into_iter().chain(way(inner, id)?).collect())
}

/// The field at a way within a column; null where what holds it is.
fn within(column: &ArrayRef, way: &[usize]) -> Result<ArrayRef> {
    let mut own = column.clone();
    for place in way {
        let rows = own.as_struct_opt().ok_or_else(|| Error::internal("a field is looked for in what is no row"))?;
        own = nullif(rows.column(*place), &is_null(rows)?)?;
    }
    Ok(own)
}

impl LoadedGone {
    pub fn new(
        gone: Gone,
        (paths, storage): (Option<HashSet<String>>, Arc<dyn Storage>),
        fields: Arc<[Field]>,
        mapping: Option<Arc<Vec<Mapped>>>,
    ) -> LoadedGone {
        let places = gone.places.iter().map(|_| Once::default()).collect();
        let values = gone.values.iter().map(|_| Once::default()).collect();
        LoadedGone { gone, storage, paths, fields, mapping, places, values }
    }

    /// The places of gone rows in a file, as these files tell them, in order.
    pub fn places(&self, lake: &Lake, path: &str, files: &[usize], tools: &ScanTools) -> Result<Vec<u64>> {
        let mut all = Vec::new();
        for file in files {
            let places = once(&self.places[*file], || self.load_places(lake, &self.gone.places[*file], tools))?;
            all.extend(places.of.get(path).into_iter().flatten());
        }
        all.sort_unstable();
        all.dedup();
        Ok(all)
    }

    /// The values of gone rows that a group of files tells.
    pub fn values(&self, lake: &Lake, group: usize, tools: &ScanTools) -> Result<Arc<Values>> {
        once(&self.values[group], || self.load_values(lake, &self.gone.values[group], tools))
    }

    fn load_places(&self, lake: &Lake, file: &DeleteFile, tools: &ScanTools) -> Result<Places> {
        let (fields, mapping) = of_places();
        let mut places = Places { of: HashMap::new(), _room: vec![] };
        read((lake, &self.storage), file, (fields.into(), Some(&mapping)), &[0, 1], tools, |columns, rows| {
            let (paths, own) = (columns[0].as_string_view_opt(), columns[1].as_primitive_opt::<Int64Type>());
            let (Some(paths), Some(own)) = (paths, own) else {
                return Err("its columns are not path and place".into());
            };
            if paths.null_count() + own.null_count() > 0 {
                return Err("a path or place is null".into());
            }
            let mut taken = 0;
            for row in 0..rows {
                let (path, place) =
                    (paths.value(row), u64::try_from(own.value(row)).map_err(|_| "a place is negative")?);
                if self.paths.as_ref().is_some_and(|paths| !paths.contains(path)) {
                    continue;
                }
                match places.of.get_mut(path) {
                    Some(known) => known.push(place),
                    None => drop(places.of.insert(path.to_owned(), vec![place])),
                }
                taken += size_of::<u64>() as u64;
            }
            Ok(taken)
        })
        .map(|room| places._room = room)?;
        places.of.values_mut().for_each(|all| all.sort_unstable());
        Ok(places)
    }

    fn load_values(&self, lake: &Lake, group: &GoneValues, tools: &ScanTools) -> Result<Values> {
        let way_to = |id: &i32| {
            let way =
                way(&self.fields, *id).and_then(|way| way.split_first().map(|(root, rest)| (*root, rest.to_vec())));
            way.ok_or_else(|| {
                Error::new(Code::Unsupported, format!("rows are deleted by field {id} within a list or map"))
            })
        };
        let columns: Vec<(usize, Vec<usize>)> = group.columns.iter().map(way_to).collect::<Result<_>>()?;
        let sorted = columns.iter().map(|(root, rest)| {
            let own = rest.iter().fold(&self.fields[*root], |field, place| match &field.kind {
                Kind::Struct(inner) => &inner[*place],
                _ => field,
            });
            SortField::new(own.kind.sql_type().to_arrow())
        });
        let converter = RowConverter::new(sorted.collect())?;
        let roots: Vec<usize> = columns.iter().map(|(root, _)| *root).collect();
        let mut values = Values { columns, converter, told: HashMap::new(), _room: vec![] };
        for file in &group.files {
            let mapping = self.mapping.as_ref().map(|mapping| mapping.as_slice());
            let room =
                read((lake, &self.storage), file, (self.fields.clone(), mapping), &roots, tools, |columns, rows| {
                    let of =
                        |place: usize| Ok(columns[roots.iter().position(|root| *root == place).unwrap_or(0)].clone());
                    let keys = values.keys(&of).map_err(|e| e.to_string())?;
                    let mut taken = 0;
                    for row in 0..rows {
                        let key = keys.row(row).data().into();
                        match values.told.entry(key) {
                            std::collections::hash_map::Entry::Occupied(mut known) => {
                                let last = known.get_mut();
                                *last = (*last).max(file.sequence);
                            }
                            std::collections::hash_map::Entry::Vacant(new) => {
                                taken += new.key().len() as u64 + EACH;
                                new.insert(file.sequence);
                            }
                        }
                    }
                    Ok(taken)
                })?;
            values._room.extend(room);
        }
        Ok(values)
    }
}

impl Values {
    fn keys(&self, column: &dyn Fn(usize) -> Result<ArrayRef>) -> Result<arrow::row::Rows> {
        let columns: Vec<ArrayRef> =
            self.columns.iter().map(|(root, rest)| within(&column(*root)?, rest)).collect::<Result<_>>()?;
        Ok(self.converter.convert_columns(&columns)?)
    }

    /// Which rows are there, of a file that was added by the change of this number.
    pub fn there(
        &self,
        rows: usize,
        sequence: i64,
        column: &dyn Fn(usize) -> Result<ArrayRef>,
    ) -> Result<BooleanArray> {
        let keys = self.keys(column)?;
        let is_there = |row: usize| self.told.get(keys.row(row).data()).is_none_or(|told| *told <= sequence);
        Ok((0..rows).map(|row| Some(is_there(row))).collect())
    }
}

/// Goes through the rows of a file with gone rows. `each` gets columns at these places of the fields, and returns the bytes it keeps.
fn read(
    (lake, storage): (&Lake, &Arc<dyn Storage>),
    file: &DeleteFile,
    (fields, mapping): (Arc<[Field]>, Option<&[Mapped]>),
    wanted: &[usize],
    tools: &ScanTools,
    mut each: impl FnMut(&[ArrayRef], usize) -> std::result::Result<u64, String>,
) -> Result<Vec<Room>> {
    let footer = lake.footer(storage, &file.stored, &file.format, file.rows)?;
    let columns: Vec<TableColumn> = fields.iter().map(|field| column_of(field, field.name.to_lowercase())).collect();
    let own = FileFields::new(footer.schema(), fields, mapping).ok_or_else(|| lake.no_ids(&file.stored))?;
    let own = Arc::new(own);
    if let Some(missing) = wanted.iter().find(|place| own.name(**place).is_none()) {
        let what = format!("it tells gone rows, and has no column {}", columns[*missing].name);
        return Err(lake.file_error(&file.stored, what));
    }
    let open = lake.opened(storage, &file.stored, &tools.cancel, &tools.counters.bytes, tools.memory.clone())?;
    let shape = shape_of(&columns, wanted);
    let mut room: Vec<Room> = Vec::new();
    for part in 0..footer.parts() {
        let reading = PartReading {
            shape: &shape,
            layout: &own.layout(),
            conditions: &[],
            gone: &[],
            only: &[],
            batch_rows: tools.batch_rows,
            counters: &tools.counters,
            adapt: Some(own.clone()),
        };
        let mut batches: Box<dyn FileBatches> = footer.read(&open, part, &reading)?;
        while let Some((found, rows)) = batches.next()? {
            if tools.cancel.is_cancelled() {
                return Err(Error::cancelled());
            }
            // Columns come out in the order of their places.
            let of = |place: &usize| found[shape.wanted.partition_point(|known| known < place)].clone();
            let found: Vec<ArrayRef> = wanted.iter().map(of).collect();
            let kept = each(&found, rows).map_err(|what| lake.file_error(&file.stored, what))?;
            room.push(tools.memory.take(kept)?);
        }
    }
    Ok(room)
}
