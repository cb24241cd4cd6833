//! What the sources say of the types that are answered in JSON: their fields, and what each of them means.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::fs;
use std::path::Path;

use serde_json::Value;
use syn::punctuated::Punctuated;
use syn::{Attribute, Expr, Item, Lit, Meta, Token, Type};

/// What stands in JSON.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Shape {
    Text,
    Number,
    Bool,
    List(Box<Shape>),
    Map(Box<Shape>),
    Several(Vec<Shape>),
    OrNull(Box<Shape>),
    Named(String),
}

#[derive(Debug)]
struct Field {
    name: String,
    about: String,
    shape: Shape,
    /// Its own fields stand beside those of what it is a field of.
    flat: bool,
    may_lack: bool,
}

#[derive(Debug)]
struct Choice {
    name: String,
    about: String,
    fields: Vec<Field>,
    /// What it holds, where that has no name.
    holds: Option<Shape>,
}

#[derive(Debug)]
enum Body {
    Fields(Vec<Field>),
    /// By the value of a field, or by themselves.
    Choices(Option<String>, Vec<Choice>),
    Is(Shape),
}

#[derive(Debug)]
struct Described {
    about: String,
    body: Body,
}

/// Types whose JSON is made by hand, or that others have made.
#[rustfmt::skip]
const TEXTS: &[&str] = &[
    "BuildLabel", "BuildRef", "ContentId", "Date", "ListingId", "ModId", "ModName", "NameEncoding", "OsString", "PackageId", "Path",
    "PathBuf", "RelPath", "Setting", "Side", "SnapshotLabel", "SnapshotRef", "StateId", "String", "Timestamp", "Title",
    "TwinId", "TwinName", "char", "str",
];
const NUMBERS: [&str; 10] = ["u8", "u16", "u32", "u64", "usize", "i32", "i64", "f64", "f32", "u128"];

/// All types that the sources describe.
pub struct Types {
    all: BTreeMap<String, Described>,
}

/// What is asked of an attribute.
#[derive(Default)]
struct Serde {
    skip: bool,
    flat: bool,
    may_lack: bool,
    rename: Option<String>,
    all: Option<String>,
    tag: Option<String>,
    with: Option<String>,
    text: bool,
}

fn serde_of(attributes: &[Attribute]) -> Serde {
    let mut serde = Serde::default();
    for attribute in attributes.iter().filter(|attribute| attribute.path().is_ident("serde")) {
        for meta in attribute.parse_args_with(Punctuated::<Meta, Token![,]>::parse_terminated).unwrap() {
            let value = match &meta {
                Meta::NameValue(pair) => text_of(&pair.value),
                _ => None,
            };
            match meta.path().get_ident().map(ToString::to_string).as_deref() {
                Some("skip" | "skip_serializing") => serde.skip = true,
                Some("flatten") => serde.flat = true,
                Some("skip_serializing_if") => serde.may_lack = true,
                Some("rename") => serde.rename = value,
                Some("rename_all") => serde.all = value,
                Some("tag") => serde.tag = value,
                Some("serialize_with") => serde.with = value,
                Some("into") => serde.text = true,
                _ => {}
            }
        }
    }
    serde
}

fn text_of(value: &Expr) -> Option<String> {
    match value {
        Expr::Lit(literal) => match &literal.lit {
            Lit::Str(text) => Some(text.value()),
            _ => None,
        },
        _ => None,
    }
}

/// The first paragraph of a documentation.
fn about(attributes: &[Attribute]) -> String {
    let lines = attributes.iter().filter(|attribute| attribute.path().is_ident("doc")).filter_map(|attribute| {
        let Meta::NameValue(pair) = &attribute.meta else { return None };
        text_of(&pair.value)
    });
    let first: Vec<String> = lines.map(|line| line.trim().to_owned()).take_while(|line| !line.is_empty()).collect();
    first.join(" ").replace("[`", "`").replace("`]", "`").replace('|', "\\|")
}

fn is_serialized(attributes: &[Attribute]) -> bool {
    attributes.iter().filter(|attribute| attribute.path().is_ident("derive")).any(|attribute| {
        let derived = attribute.parse_args_with(Punctuated::<syn::Path, Token![,]>::parse_terminated).unwrap();
        derived.iter().any(|path| path.segments.last().is_some_and(|last| last.ident == "Serialize"))
    })
}

/// `SomeThing` as the attribute wants it.
fn spelt(name: &str, all: Option<&str>) -> String {
    let between = match all {
        Some("snake_case") => "_",
        Some("kebab-case") => "-",
        Some("lowercase") => "",
        _ => return name.to_owned(),
    };
    let mut out = String::new();
    for c in name.chars() {
        if c.is_uppercase() && !out.is_empty() {
            out.push_str(between);
        }
        out.extend(c.to_lowercase());
    }
    out
}

/// What a source file is called among the public modules.
fn module_of(path: &Path) -> String {
    let folder = path.parent().and_then(Path::file_name).unwrap_or_default().to_string_lossy().into_owned();
    let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    match (folder.as_str(), stem.as_str()) {
        (folder @ ("mods" | "edits" | "check" | "carry" | "play" | "repath" | "intake"), _) | (folder, "mod") => {
            folder.to_owned()
        }
        (_, stem) => stem.to_owned(),
    }
}

impl Types {
    pub fn read(roots: &[&Path]) -> Self {
        let mut files = Vec::new();
        roots.iter().for_each(|root| sources(root, &mut files));
        let parsed: Vec<_> = files
            .iter()
            .map(|path| (module_of(path), syn::parse_file(&fs::read_to_string(path).unwrap()).unwrap()))
            .collect();
        let mut names: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        let (mut found, mut imports) = (Vec::new(), BTreeMap::<String, BTreeMap<String, Vec<String>>>::new());
        for (module, file) in &parsed {
            let mut uses = BTreeMap::new();
            for item in &file.items {
                let (name, attributes, seen) = match item {
                    Item::Struct(item) => (item.ident.to_string(), &item.attrs, &item.vis),
                    Item::Enum(item) => (item.ident.to_string(), &item.attrs, &item.vis),
                    Item::Use(item) => {
                        used(&item.tree, &mut Vec::new(), &mut uses);
                        continue;
                    }
                    _ => continue,
                };
                // What is private can't be a part of an answer.
                let seen = matches!(seen, syn::Visibility::Public(_)) || module == "answers";
                if seen && is_serialized(attributes) && !TEXTS.contains(&name.as_str()) {
                    names.entry(name.clone()).or_default().insert(module.clone());
                    found.push((module, name, item));
                }
            }
            imports.entry(module.clone()).or_default().extend(uses);
        }
        let mut all = BTreeMap::new();
        for (module, name, item) in found {
            let resolver = Resolver { names: &names, module, uses: &imports[module] };
            let key = resolver.key(&name, None).unwrap();
            all.insert(key, resolver.described(item));
        }
        Self { all }
    }

    fn get(&self, name: &str) -> &Described {
        self.all
            .get(name)
            .unwrap_or_else(|| panic!("no type {name}: there are {:?}", self.all.keys().collect::<Vec<_>>()))
    }

    /// What of a value is not as the sources say.
    pub fn check(&self, value: &Value, shape: &Shape, path: &str, wrong: &mut Vec<String>) {
        let mut complain = || wrong.push(format!("{path}: {value} is no {shape:?}"));
        match (shape, value) {
            (Shape::Text, Value::String(_)) | (Shape::Number, Value::Number(_)) | (Shape::Bool, Value::Bool(_)) => {}
            (Shape::OrNull(_), Value::Null) => {}
            (Shape::OrNull(inner), value) => self.check(value, inner, path, wrong),
            (Shape::List(inner), Value::Array(all)) => {
                all.iter().for_each(|one| self.check(one, inner, &format!("{path}[]"), wrong));
            }
            (Shape::Map(inner), Value::Object(all)) => {
                all.values().for_each(|one| self.check(one, inner, &format!("{path}.*"), wrong));
            }
            (Shape::Several(shapes), Value::Array(all)) if shapes.len() == all.len() => {
                all.iter().zip(shapes).for_each(|(one, shape)| self.check(one, shape, &format!("{path}[]"), wrong));
            }
            (Shape::Named(name), value) => match (&self.get(name).body, value) {
                (Body::Is(shape), value) => self.check(value, shape, path, wrong),
                (Body::Fields(_) | Body::Choices(Some(_), _), Value::Object(object)) => {
                    let mut left: BTreeSet<&str> = object.keys().map(String::as_str).collect();
                    self.check_fields(name, object, path, &mut left, wrong);
                    wrong.extend(left.iter().map(|name| format!("{path}.{name} is not documented")));
                }
                (Body::Choices(None, choices), Value::String(text))
                    if choices.iter().any(|one| one.name == *text && one.fields.is_empty() && one.holds.is_none()) => {}
                (Body::Choices(None, choices), Value::Object(object)) if object.len() == 1 => {
                    let (name, value) = object.iter().next().unwrap();
                    match choices.iter().find(|choice| choice.name == *name) {
                        Some(Choice { holds: Some(shape), .. }) => self.check(value, shape, path, wrong),
                        Some(choice) => {
                            let object = value.as_object().unwrap();
                            let mut left = object.keys().map(String::as_str).collect();
                            self.fields(&choice.fields, object, path, &mut left, wrong);
                            wrong.extend(left.iter().map(|name| format!("{path}.{name} is not documented")));
                        }
                        None => complain(),
                    }
                }
                _ => complain(),
            },
            _ => complain(),
        }
    }

    fn check_fields<'v>(
        &self,
        name: &str,
        object: &'v serde_json::Map<String, Value>,
        path: &str,
        left: &mut BTreeSet<&'v str>,
        wrong: &mut Vec<String>,
    ) {
        match &self.get(name).body {
            Body::Fields(fields) => self.fields(fields, object, path, left, wrong),
            Body::Choices(Some(tag), choices) => {
                left.remove(tag.as_str());
                match choices.iter().find(|choice| object.get(tag).is_some_and(|is| *is == choice.name)) {
                    Some(Choice { holds: Some(Shape::Named(name)), .. }) => {
                        self.check_fields(name, object, path, left, wrong)
                    }
                    Some(choice) => self.fields(&choice.fields, object, path, left, wrong),
                    None => wrong.push(format!("{path}.{tag} is none of {name}")),
                }
            }
            other => wrong.push(format!("{path}: {name} can't be flat: {other:?}")),
        }
    }

    fn fields<'v>(
        &self,
        fields: &[Field],
        object: &'v serde_json::Map<String, Value>,
        path: &str,
        left: &mut BTreeSet<&'v str>,
        wrong: &mut Vec<String>,
    ) {
        for field in fields {
            match (&field.shape, object.get_key_value(&field.name)) {
                (Shape::Named(name), _) if field.flat => self.check_fields(name, object, path, left, wrong),
                (shape, Some((name, value))) => {
                    left.remove(name.as_str());
                    self.check(value, shape, &format!("{path}.{name}"), wrong);
                }
                (_, None) if field.may_lack => {}
                (_, None) => wrong.push(format!("{path}.{} is not there", field.name)),
            }
        }
    }

    /// The named types that some lead to.
    pub fn reached(&self, roots: &[Shape]) -> BTreeSet<String> {
        let mut reached = BTreeSet::new();
        let mut left: Vec<Shape> = roots.to_vec();
        while let Some(shape) = left.pop() {
            match shape {
                Shape::List(inner) | Shape::Map(inner) | Shape::OrNull(inner) => left.push(*inner),
                Shape::Several(all) => left.extend(all),
                Shape::Named(name) if reached.insert(name.clone()) => match &self.get(&name).body {
                    Body::Is(shape) => left.push(shape.clone()),
                    Body::Fields(fields) => left.extend(fields.iter().map(|field| field.shape.clone())),
                    Body::Choices(_, choices) => choices.iter().for_each(|choice| {
                        left.extend(choice.holds.clone());
                        left.extend(choice.fields.iter().map(|field| field.shape.clone()));
                    }),
                },
                _ => {}
            }
        }
        reached
    }

    /// A type as the document shows it.
    pub fn section(&self, name: &str) -> String {
        let Described { about, body } = self.get(name);
        let mut out = format!("### {name}\n\n{about}\n\n");
        match body {
            Body::Is(shape) => writeln!(out, "{}", words(shape)).unwrap(),
            Body::Fields(fields) => {
                out += "| field | value | what it is |\n| --- | --- | --- |\n";
                self.rows(fields, &mut out);
            }
            Body::Choices(tag, choices) => {
                let by = tag.as_ref().map_or_else(|| "value".into(), |tag| format!("`{tag}`"));
                writeln!(out, "| {by} | with | what it is |\n| --- | --- | --- |").unwrap();
                for Choice { name, about, fields, holds } in choices {
                    let with = fields.iter().map(|field| format!("`{}` ({})", field.name, words(&field.shape)));
                    let with: Vec<_> = with.chain(holds.iter().map(words)).collect();
                    writeln!(out, "| `{name}` | {} | {about} |", with.join(", ")).unwrap();
                }
            }
        }
        out
    }

    fn rows(&self, fields: &[Field], out: &mut String) {
        for field in fields {
            match (&field.shape, field.flat) {
                (Shape::Named(name), true) => match &self.get(name).body {
                    Body::Fields(fields) => self.rows(fields, out),
                    _ => writeln!(out, "| | all of {} | |", words(&field.shape)).unwrap(),
                },
                _ => {
                    let lacking = if field.may_lack { ", or not there" } else { "" };
                    writeln!(out, "| `{}` | {}{lacking} | {} |", field.name, words(&field.shape), field.about).unwrap();
                }
            }
        }
    }
}

/// A shape in words.
pub fn words(shape: &Shape) -> String {
    match shape {
        Shape::Text => "text".into(),
        Shape::Number => "number".into(),
        Shape::Bool => "true or false".into(),
        Shape::List(inner) => format!("list of {}", words(inner)),
        Shape::Map(inner) => format!("{} by name", words(inner)),
        Shape::Several(all) => format!("[{}]", all.iter().map(words).collect::<Vec<_>>().join(", ")),
        Shape::OrNull(inner) => format!("{} or null", words(inner)),
        Shape::Named(name) => format!("[{name}](#{})", name.replace("::", "").to_lowercase()),
    }
}

/// The names that a `use` brings, each with the path that it comes by.
fn used(tree: &syn::UseTree, path: &mut Vec<String>, into: &mut BTreeMap<String, Vec<String>>) {
    match tree {
        syn::UseTree::Path(next) => {
            path.push(next.ident.to_string());
            used(&next.tree, path, into);
            path.pop();
        }
        syn::UseTree::Name(name) => {
            into.insert(name.ident.to_string(), path.clone());
        }
        syn::UseTree::Group(group) => group.items.iter().for_each(|tree| used(tree, path, into)),
        _ => {}
    }
}

fn sources(root: &Path, into: &mut Vec<std::path::PathBuf>) {
    if root.is_file() {
        return into.push(root.into());
    }
    for entry in fs::read_dir(root).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() || path.extension().is_some_and(|ending| ending == "rs") {
            sources(&path, into);
        }
    }
}

/// Finds out which type is meant by a name, in a module.
struct Resolver<'a> {
    names: &'a BTreeMap<String, BTreeSet<String>>,
    module: &'a str,
    /// Where the names come from that its files use.
    uses: &'a BTreeMap<String, Vec<String>>,
}

impl Resolver<'_> {
    /// What a type is called in the document: with its module where several are called so.
    fn key(&self, name: &str, said: Option<&str>) -> Option<String> {
        let modules = self.names.get(name)?;
        let used = self.uses.get(name).and_then(|path| path.iter().find(|part| modules.contains(*part)));
        let said = said.filter(|said| modules.contains(*said));
        let module = said.or(used.map(String::as_str)).unwrap_or(self.module);
        match modules.len() {
            1 => Some(name.to_owned()),
            _ if modules.contains(module) => Some(format!("{module}::{name}")),
            _ => None,
        }
    }

    fn described(&self, item: &Item) -> Described {
        match item {
            Item::Struct(item) => {
                let serde = serde_of(&item.attrs);
                let body = match &item.fields {
                    _ if serde.text => Body::Is(Shape::Text),
                    syn::Fields::Named(fields) => Body::Fields(self.fields(fields.named.iter())),
                    syn::Fields::Unnamed(fields) => Body::Is(self.shape(&fields.unnamed[0].ty)),
                    syn::Fields::Unit => Body::Fields(Vec::new()),
                };
                Described { about: about(&item.attrs), body }
            }
            Item::Enum(item) => {
                let serde = serde_of(&item.attrs);
                let choices = item.variants.iter().map(|variant| {
                    let own = serde_of(&variant.attrs);
                    let name = own.rename.unwrap_or_else(|| spelt(&variant.ident.to_string(), serde.all.as_deref()));
                    let (fields, holds) = match &variant.fields {
                        syn::Fields::Named(fields) => (self.fields(fields.named.iter()), None),
                        syn::Fields::Unnamed(fields) => (Vec::new(), Some(self.shape(&fields.unnamed[0].ty))),
                        syn::Fields::Unit => (Vec::new(), None),
                    };
                    Choice { name, about: about(&variant.attrs), fields, holds }
                });
                Described { about: about(&item.attrs), body: Body::Choices(serde.tag, choices.collect()) }
            }
            _ => unreachable!(),
        }
    }

    fn fields<'f>(&self, fields: impl Iterator<Item = &'f syn::Field>) -> Vec<Field> {
        let shown = fields.map(|field| (field, serde_of(&field.attrs))).filter(|(_, serde)| !serde.skip);
        shown
            .map(|(field, serde)| Field {
                name: serde.rename.unwrap_or_else(|| field.ident.as_ref().unwrap().to_string()),
                about: about(&field.attrs),
                shape: match serde.with.as_deref() {
                    Some(with) if with.ends_with("seconds") => Shape::Number,
                    Some("lossy") => Shape::List(Box::new(Shape::Text)),
                    Some("lossy_map") => Shape::Map(Box::new(Shape::Text)),
                    Some(other) => Shape::Named(other.into()),
                    None => self.shape(&field.ty),
                },
                flat: serde.flat,
                may_lack: serde.may_lack,
            })
            .collect()
    }

    fn shape(&self, ty: &Type) -> Shape {
        match ty {
            Type::Reference(reference) => self.shape(&reference.elem),
            Type::Slice(slice) => Shape::List(Box::new(self.shape(&slice.elem))),
            Type::Tuple(tuple) => Shape::Several(tuple.elems.iter().map(|one| self.shape(one)).collect()),
            Type::Path(path) => {
                let last = path.path.segments.last().unwrap();
                let mut within = match &last.arguments {
                    syn::PathArguments::AngleBracketed(all) => all
                        .args
                        .iter()
                        .filter_map(
                            |one| if let syn::GenericArgument::Type(ty) = one { Some(self.shape(ty)) } else { None },
                        )
                        .collect(),
                    _ => Vec::new(),
                };
                let before = path.path.segments.iter().rev().nth(1).map(|segment| segment.ident.to_string());
                let name = last.ident.to_string();
                match name.as_str() {
                    "Option" => Shape::OrNull(Box::new(within.remove(0))),
                    "Vec" | "BTreeSet" | "HashSet" => Shape::List(Box::new(within.remove(0))),
                    "BTreeMap" | "HashMap" => Shape::Map(Box::new(within.remove(1))),
                    "Box" | "Arc" | "Cow" => within.remove(0),
                    "bool" => Shape::Bool,
                    name if NUMBERS.contains(&name) => Shape::Number,
                    name if TEXTS.contains(&name) => Shape::Text,
                    name => {
                        Shape::Named(self.key(name, before.as_deref()).unwrap_or_else(|| format!("unknown::{name}")))
                    }
                }
            }
            _ => Shape::Named("of no name".into()),
        }
    }
}
