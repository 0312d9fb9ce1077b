//! XML as a small tree: no document types, no entities but those that XML itself has, bounded in depth and number.

use quick_xml::{Reader, events::Event};

const DEEPEST: usize = 40;
const MOST: usize = 20_000;

#[derive(Debug, Default)]
pub(super) struct Node {
    /// Without its prefix.
    pub(super) name: String,
    /// Names without their prefixes.
    pub(super) attributes: Vec<(String, String)>,
    pub(super) children: Vec<Node>,
    pub(super) text: String,
}

impl Node {
    pub(super) fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes
            .iter()
            .find(|(n, _)| n == name)
            .map(|(_, v)| v.as_str())
    }
    pub(super) fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Node> {
        self.children.iter().filter(move |c| c.name == name)
    }
    pub(super) fn one(&self, name: &str) -> Option<&Node> {
        self.children.iter().find(|c| c.name == name)
    }
    /// The text of a child, trimmed; empty where there is none.
    pub(super) fn said(&self, name: &str) -> &str {
        self.one(name).map_or("", |c| c.text.trim())
    }
}

/// # Errors
/// Words about what is not well-formed, or not taken.
pub(super) fn parse(text: &str) -> Result<Node, String> {
    // What XML 1.0 has no place for (section 2.2), no database has one for either.
    let odd = |c: char| c.is_control() && !matches!(c, '\t' | '\n' | '\r' | '\u{7f}'..);
    if let Some(c) = text.chars().find(|c| odd(*c)) {
        return Err(format!(
            "holds a control character (U+{:04X}), which XML does not allow",
            u32::from(c)
        ));
    }
    let mut reader = Reader::from_str(text);
    let mut open: Vec<Node> = vec![Node::default()];
    let mut nodes = 0;
    loop {
        let event = reader
            .read_event()
            .map_err(|e| format!("is not well-formed XML: {e}"))?;
        match event {
            Event::DocType(_) => return Err("declares a document type, which is not read".into()),
            Event::Start(start) => {
                nodes += 1;
                if open.len() > DEEPEST || nodes > MOST {
                    return Err("is nested too deeply, or too long".into());
                }
                open.push(begun(&start)?);
            }
            Event::Empty(start) => {
                nodes += 1;
                if nodes > MOST {
                    return Err("is too long".into());
                }
                let node = begun(&start)?;
                into(&mut open, node);
            }
            Event::End(_) => {
                let node = open.pop().unwrap_or_default();
                if open.is_empty() {
                    return Err("closes what was not opened".into());
                }
                into(&mut open, node);
            }
            Event::Text(text) => {
                said(&mut open, &text);
            }
            Event::CData(data) => {
                said(&mut open, &data);
            }
            Event::GeneralRef(name) => {
                let whole = format!("&{};", &*name);
                let plain = quick_xml::escape::unescape(&whole)
                    .map_err(|_| format!("uses the entity {whole}, which is not defined"))?;
                said(&mut open, &plain);
            }
            Event::Eof => break,
            Event::Decl(_) | Event::PI(_) | Event::Comment(_) => {}
        }
    }
    if open.len() != 1 {
        return Err("ends before everything is closed".into());
    }
    let mut all = open.pop().unwrap_or_default().children;
    match (all.pop(), all.is_empty()) {
        (Some(root), true) => Ok(root),
        _ => Err("has no single root".into()),
    }
}

fn into(open: &mut [Node], node: Node) {
    if let Some(parent) = open.last_mut() {
        parent.children.push(node);
    }
}

fn said(open: &mut [Node], text: &str) {
    if let Some(node) = open.last_mut() {
        node.text.push_str(text);
    }
}

fn local(name: &str) -> String {
    name.rsplit_once(':')
        .map_or(name, |(_, local)| local)
        .to_owned()
}

fn begun(start: &quick_xml::events::BytesStart<'_>) -> Result<Node, String> {
    let mut node = Node {
        name: local(start.name().as_ref()),
        ..Node::default()
    };
    for attribute in start.attributes() {
        let attribute =
            attribute.map_err(|e| format!("has an attribute that can't be read: {e}"))?;
        let value = quick_xml::escape::unescape(&attribute.value)
            .map_err(|_| "uses an entity that is not defined".to_owned())?;
        node.attributes
            .push((local(attribute.key.as_ref()), value.into_owned()));
    }
    Ok(node)
}
