//! Files of Parquet that lie in the storage become files of a table where they are: nothing is copied. What a writer would have noted of them (rows,
//! bounds, the partition) is taken from their footers.

use std::cmp::Ordering;
use std::collections::HashSet;
use std::path::PathBuf;

use cobble_format::prune::Range;
use cobble_format::{FIELD_ID, Footer};
use cobble_lake::bounds;
use cobble_lake::manifest::Content;
use cobble_lake::manifest_out::{NewColumn, NewFile};
use cobble_lake::metadata::{PartitionField, Spec};
use cobble_lake::name_mapping;
use cobble_lake::schema::{Field, Kind, Schema};
use cobble_lake::table::LakeTable;
use cobble_lake::transform::Transform;
use cobble_plan::facts::FactRows;
use cobble_plan::logical::TableColumn;
use cobble_plan::procedure::ProcedureCall;
use cobble_plan::scan::ScanTools;
use cobble_storage::files_below;
use cobble_storage::{StoredFile, is_hidden};
use cobble_types::{Code, Error, Result, SqlType, Value};

use super::call::Named;
use super::column_of;
use super::fields::FileFields;
use super::new_files::{longer, no_null, shorter};

pub fn add(named: Named<'_>, call: &ProcedureCall, tools: &ScanTools) -> Result<FactRows> {
    let table = named.open()?;
    table.is_ours()?;
    let location = named.lake.whole_location(call.needed("location")?)?;
    let found = found(&named, &table, &location)?;
    let mut known: HashSet<PathBuf> = HashSet::new();
    if let Some(snapshot) = table.head() {
        table.each_file(snapshot, &tools.memory, &tools.cancel, |entry, _, _| {
            known.insert(table.stored(entry.path, entry.bytes).map_err(|e| e.to_string())?.path);
            Ok(())
        })?;
    }
    let (schema, spec) = (table.schema()?.clone(), table.spec(table.metadata.spec_id)?.clone());
    let mapping = named.lake.mapping(&table)?;
    let own_names = name_mapping::of_fields(&schema.fields);
    let mut is_mapped = true;
    let mut rows = FactRows::new(&[("file", SqlType::Text), ("rows", SqlType::BigInt), ("bytes", SqlType::BigInt)]);
    let mut new = Vec::new();
    let count = found.len();
    for (place, (names, file)) in found.into_iter().enumerate() {
        tools.counters.tell(format!("{place} of {count} files looked into"));
        if tools.cancel.is_cancelled() {
            return Err(Error::cancelled());
        }
        if known.contains(&file.path) {
            let what = format!("{} is a file of the table already", file.path.display());
            return Err(Error::new(Code::AlreadyExists, named.wrong(what).message).hint("leave it out"));
        }
        let footer = named.lake.footer(&table.storage, &file, "parquet", 0)?;
        let has_ids = footer.schema().fields().iter().any(|field| field.metadata().contains_key(FIELD_ID));
        is_mapped &= has_ids || mapping.is_some();
        let mapped = mapping.as_deref().unwrap_or(&own_names);
        let fields = FileFields::new(footer.schema(), schema.fields.clone().into(), Some(mapped));
        let fields = fields.ok_or_else(|| named.lake.no_ids(&file))?;
        let adding = Adding {
            named: &named,
            file: &file,
            names: &names,
            schema: &schema,
            fields: &fields,
            footer: footer.as_ref(),
        };
        let path = table.storage.location_of(&names)?;
        let file_rows: u64 = (0..footer.parts()).map(|part| footer.rows(part)).sum();
        let columns = adding.columns(&spec, file_rows)?;
        let partition = adding.partition(&spec)?;
        let shown = file.path.display().to_string();
        rows.push([Value::Text(shown), Value::BigInt(file_rows as i64), Value::BigInt(file.bytes as i64)])?;
        new.push(NewFile {
            content: Content::Rows,
            path,
            format: "parquet".to_owned(),
            partition,
            rows: file_rows,
            bytes: file.bytes,
            columns,
            splits: vec![],
            order: None,
        });
    }
    if call.flag("dry_run") {
        return Ok(rows);
    }
    if !is_mapped {
        // Without it nobody would know which of the files' columns is which of the table's.
        let text = name_mapping::written(&schema.fields);
        let make = |_: &LakeTable, mut json: serde_json::Value| {
            json["properties"][name_mapping::PROPERTY] = serde_json::json!(text);
            Ok(json)
        };
        LakeTable::change_metadata(&make, &|| named.open())?;
    }
    table.append(spec.id, &new, &tools.memory, &|| named.open())?;
    Ok(rows)
}

/// The files at a location, which is that of one or of a folder, with their names below the storage's address.
fn found(named: &Named<'_>, table: &LakeTable, location: &str) -> Result<Vec<(Vec<String>, StoredFile)>> {
    let storage = table.storage.as_ref();
    let elsewhere = || named.wrong(format!("{location} is not below {}", storage.address()));
    let names = storage.names_of(location).ok_or_else(elsewhere)?;
    let is_parquet =
        |file: &StoredFile| file.name().to_ascii_lowercase().ends_with(".parquet") && !is_hidden(&file.name());
    let mut all: Vec<StoredFile> = match names.split_last() {
        Some((last, folder)) => storage.look(folder)?.files.into_iter().filter(|file| file.name() == *last).collect(),
        None => vec![],
    };
    if all.is_empty() {
        all = files_below(storage, &names)?;
        all.retain(is_parquet);
    }
    all.sort_by(|a, b| a.path.cmp(&b.path));
    let whole = |file: StoredFile| {
        let path = file.path.to_string_lossy().into_owned();
        let names = storage.names_of(&path).ok_or_else(elsewhere)?;
        Ok((names, file))
    };
    match all.is_empty() {
        true => Err(named
            .wrong(format!("there is no file of Parquet at {location}"))
            .hint("give a file, or a folder that has files whose names end with .parquet")),
        false => all.into_iter().map(whole).collect(),
    }
}

/// A file on its way into the table.
struct Adding<'a> {
    named: &'a Named<'a>,
    file: &'a StoredFile,
    names: &'a [String],
    schema: &'a Schema,
    fields: &'a FileFields,
    footer: &'a dyn Footer,
}

/// What all rows of a file have in a column.
struct Known {
    bytes: u64,
    nulls: Option<u64>,
    all_null: bool,
    bounds: Option<(Value, Value)>,
}

impl Adding<'_> {
    fn refused(&self, what: impl std::fmt::Display) -> Error {
        self.named
            .lake
            .file_error(self.file, what)
            .hint("add files that fit the table, or INSERT INTO it what they hold")
    }

    /// The file's column of a field, in the type that the table has for it.
    fn column(&self, place: usize) -> Option<TableColumn> {
        let field = &self.schema.fields[place];
        Some(column_of(field, self.fields.name(place)?.to_owned()))
    }

    fn known(&self, column: &TableColumn) -> Known {
        let ranges = self.footer.ranges(column);
        let mut known = Known { bytes: 0, nulls: Some(0), all_null: true, bounds: None };
        let mut is_bounded = true;
        for part in 0..self.footer.parts() {
            let chunk = self.footer.chunk(part, &column.name);
            known.bytes += chunk.as_ref().map_or(0, |chunk| chunk.bytes);
            known.nulls = known.nulls.zip(chunk.and_then(|chunk| chunk.nulls)).map(|(before, own)| before + own);
            let range = ranges.get(part);
            if self.footer.rows(part) == 0 || range.is_some_and(|range| range.all_null) {
                continue;
            }
            known.all_null = false;
            let own = range.and_then(|Range { min, max, .. }| min.clone().zip(max.clone()));
            let Some((min, max)) = own else {
                is_bounded = false;
                continue;
            };
            known.bounds = Some(match known.bounds.take() {
                None => (min, max),
                Some((least, greatest)) => (
                    if min.compare(&least) == Some(Ordering::Less) { min } else { least },
                    if max.compare(&greatest) == Some(Ordering::Greater) { max } else { greatest },
                ),
            });
        }
        known.bounds = known.bounds.filter(|_| is_bounded);
        known
    }

    /// What a manifest says of the file's columns.
    fn columns(&self, spec: &Spec, rows: u64) -> Result<Vec<NewColumn>> {
        let own = self.footer.columns()?;
        let mut all = Vec::new();
        for (place, field) in self.schema.fields.iter().enumerate() {
            let Some(column) = self.column(place) else {
                // Its one value may be in the name of a folder.
                let is_told =
                    spec.fields.iter().any(|own| own.source == field.id && own.transform == Transform::Identity);
                match field.required && !is_told {
                    true => return Err(no_null(&field.name)),
                    false => continue,
                }
            };
            let written = own.iter().find(|own| own.name == column.name).map(|own| &own.sql_type);
            let wanted = field.kind.sql_type();
            if let Some(written) = written.filter(|written| !becomes(written, &wanted)) {
                return Err(
                    self.refused(format!("its column {} is {written}, and the table's is {wanted}", field.name))
                );
            }
            if matches!(field.kind, Kind::Struct(_) | Kind::List(_) | Kind::Map { .. }) {
                match field.required {
                    true => {
                        let what = format!(
                            "its footer does not tell whether column {}, which takes no null, has nulls",
                            field.name
                        );
                        return Err(self.refused(what));
                    }
                    false => continue,
                }
            }
            let known = self.known(&column);
            if field.required && known.nulls != Some(0) {
                return Err(no_null(&field.name));
            }
            let bound = |value: Option<Value>| bounds::bytes(&field.kind, &value?);
            let (min, max) = known.bounds.unzip();
            all.push(NewColumn {
                id: field.id,
                bytes: known.bytes,
                values: Some(rows),
                nulls: known.nulls,
                nans: None,
                lower: bound(min.and_then(shorter)),
                upper: bound(max.and_then(longer)),
            });
        }
        match self.schema.fields.iter().enumerate().any(|(place, _)| self.fields.name(place).is_some()) {
            true => Ok(all),
            false => Err(self.refused("none of its columns is one of the table's")),
        }
    }

    /// The one partition that all rows of the file are in.
    fn partition(&self, spec: &Spec) -> Result<Vec<Value>> {
        spec.fields.iter().map(|field| self.partition_value(field)).collect()
    }

    fn partition_value(&self, field: &PartitionField) -> Result<Value> {
        if field.transform == Transform::Void {
            return Ok(Value::Null);
        }
        let place = self.schema.fields.iter().position(|own| own.id == field.source);
        let place = place
            .ok_or_else(|| self.refused(format!("the table is partitioned by a part of a row, {}", field.name)))?;
        let source = &self.schema.fields[place];
        let Some(column) = self.column(place) else { return self.of_folder(field, source) };
        let known = self.known(&column);
        // Least and greatest say nothing of values that are no numbers.
        let has_nans = matches!(source.kind, Kind::Float | Kind::Double);
        let several =
            || self.refused(format!("its rows are in several partitions by {}, or it does not tell", field.name));
        let (min, max) = match (known.all_null, known.nulls, known.bounds) {
            (true, ..) => return Ok(Value::Null),
            (false, Some(0), Some(bounds)) if !has_nans => bounds,
            _ => return Err(several()),
        };
        // Buckets of values that lie apart may be any.
        let is_one = !matches!(field.transform, Transform::Bucket(_)) || min == max;
        match (field.transform.apply(&min), field.transform.apply(&max)) {
            (Some(first), Some(last)) if first == last && is_one => Ok(first),
            _ => Err(several()),
        }
    }

    /// A value that a folder on the way to the file tells, as `port=7`.
    fn of_folder(&self, field: &PartitionField, source: &Field) -> Result<Value> {
        let told = self.names.iter().find_map(|name| {
            let (key, value) = name.split_once('=')?;
            (key == field.name || key == source.name).then_some(value)
        });
        let missing = || self.refused(format!("it has no column {} that the table is partitioned by", source.name));
        let told = told.filter(|_| field.transform == Transform::Identity).ok_or_else(missing)?;
        let value = cobble_types::parse::parse_value(told, &source.kind.sql_type());
        value.map_err(|e| self.refused(format!("its folder {}={told}: {}", source.name, e.message)))
    }
}

/// Whether a column of a file can be read as one of this type.
fn becomes(written: &SqlType, wanted: &SqlType) -> bool {
    match (written, wanted) {
        (SqlType::SmallInt, SqlType::Integer | SqlType::BigInt)
        | (SqlType::Integer, SqlType::BigInt)
        | (SqlType::Real, SqlType::Double) => true,
        (SqlType::Numeric { precision, scale }, SqlType::Numeric { precision: most, scale: own }) => {
            scale == own && precision <= most
        }
        (written, wanted) => written == wanted,
    }
}
