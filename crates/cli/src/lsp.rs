//! `constans kit lsp`: a language server over stdin and stdout, on the same check as everywhere.

use crate::lsp_frames;
use constans_core::document::{Finding, Level, Place};
use constans_core::kit::{Kit, OpenDocument, Suggestion, SuggestionSort, SymbolSort};
use constans_folder::{CheckedFolder, Known, check_document, check_folder_knowing, on_large_stack};
use constans_wire::exit::Exit;
use lsp_server::{Connection, ErrorCode, Message, Notification, Request, Response};
use lsp_types::notification::{
    DidChangeTextDocument, DidCloseTextDocument, DidOpenTextDocument, DidSaveTextDocument,
    Exit as EndNotification, Notification as _, PublishDiagnostics,
};
use lsp_types::request::{
    Completion, DocumentSymbolRequest, GotoDefinition, HoverRequest, References, Request as _, Shutdown,
};
use lsp_types::{
    CompletionItem, CompletionItemKind, CompletionOptions, CompletionParams, CompletionResponse, Diagnostic,
    DiagnosticRelatedInformation, DiagnosticSeverity, DidChangeTextDocumentParams,
    DidCloseTextDocumentParams, DidOpenTextDocumentParams, DocumentSymbolParams, DocumentSymbolResponse,
    GotoDefinitionParams, GotoDefinitionResponse, Hover, HoverContents, HoverParams, HoverProviderCapability,
    Location, MarkupContent, MarkupKind, NumberOrString, OneOf, Position, PublishDiagnosticsParams, Range,
    ReferenceParams, ServerCapabilities, SymbolInformation, SymbolKind, TextDocumentPositionParams,
    TextDocumentSyncCapability, TextDocumentSyncKind, Uri,
};
use percent_encoding::{AsciiSet, CONTROLS, percent_decode_str, utf8_percent_encode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};

/// Speaks with an editor until it ends.
pub fn run() -> Exit {
    let (connection, writing) = lsp_frames::speak();
    let capabilities = serde_json::to_value(capabilities()).expect("capabilities are JSON");
    if let Err(error) = connection.initialize(capabilities) {
        anstream::eprintln!(
            "error: the editor did not begin as the protocol asks: {error}\nhint: this command is started by an editor"
        );
        return Exit::Error;
    }
    let mut editor = Editor {
        connection: &connection,
        open: BTreeMap::new(),
        read: HashMap::new(),
        with_findings: BTreeSet::new(),
        is_shut_down: false,
    };
    let ended = editor.serve();
    drop(connection);
    let _ = writing.join();
    match ended {
        Ok(exit) => exit,
        Err(error) => {
            anstream::eprintln!("error: {error}\nhint: start the editor's server again");
            Exit::Error
        }
    }
}

fn capabilities() -> ServerCapabilities {
    let signs = ["\"", ":", "/", ".", " ", "{"].map(str::to_owned).to_vec();
    ServerCapabilities {
        text_document_sync: Some(TextDocumentSyncCapability::Kind(TextDocumentSyncKind::FULL)),
        completion_provider: Some(CompletionOptions {
            trigger_characters: Some(signs),
            ..CompletionOptions::default()
        }),
        hover_provider: Some(HoverProviderCapability::Simple(true)),
        definition_provider: Some(OneOf::Left(true)),
        document_symbol_provider: Some(OneOf::Left(true)),
        references_provider: Some(OneOf::Left(true)),
        ..ServerCapabilities::default()
    }
}

/// One editor and what it has open.
struct Editor<'c> {
    connection: &'c Connection,
    /// Documents that are open, with their texts now.
    open: BTreeMap<PathBuf, String>,
    /// Kits as they could be read last, by folder or single document.
    read: HashMap<PathBuf, (Kit, Vec<Kit>)>,
    /// Documents with diagnostics, so that these can be cleared.
    with_findings: BTreeSet<PathBuf>,
    /// Whether the editor announced that it will send nothing more.
    is_shut_down: bool,
}

/// Where a document belongs.
struct Home {
    /// The kit's folder, or the document itself if it belongs to no kit.
    root: PathBuf,
    /// The document below the folder.
    file: String,
    is_kit: bool,
}

impl Home {
    fn of(path: &Path) -> Self {
        let kit = path.ancestors().skip(1).take(4).find(|folder| folder.join("kit.toml").is_file());
        match kit.and_then(|root| Some((root, path.strip_prefix(root).ok()?))) {
            Some((root, file)) => {
                Self { root: root.to_owned(), file: file.display().to_string(), is_kit: true }
            }
            None => Self { root: path.to_owned(), file: path.display().to_string(), is_kit: false },
        }
    }

    /// Returns the position of a finding in its file on the disk.
    fn path_of(&self, place: &Place) -> PathBuf {
        match (&place.kit, self.is_kit) {
            (Some(kit), true) => self.root.parent().unwrap_or(Path::new("/")).join(&**kit).join(&*place.file),
            (None, true) => self.root.join(&*place.file),
            (_, false) => self.root.clone(),
        }
    }
}

type Failed = Box<dyn std::error::Error + Sync + Send>;

impl Editor<'_> {
    /// Answers until the editor announces the end, or is gone. An end that was not announced is an error, by the protocol.
    fn serve(&mut self) -> Result<Exit, Failed> {
        let connection = self.connection;
        for message in &connection.receiver {
            match message {
                Message::Request(request) => {
                    let answer = if self.is_shut_down {
                        Response::new_err(
                            request.id,
                            ErrorCode::InvalidRequest as i32,
                            "nothing is answered after `shutdown`".to_owned(),
                        )
                    } else if request.method == Shutdown::METHOD {
                        self.is_shut_down = true;
                        Response::new_ok(request.id, ())
                    } else {
                        self.answer(request)
                    };
                    connection.sender.send(Message::Response(answer))?;
                }
                Message::Notification(notification) if notification.method == EndNotification::METHOD => {
                    break;
                }
                Message::Notification(notification) if !self.is_shut_down => {
                    // A notification has no answer: what is wrong with one is for anyone who reads the editor's log.
                    if let Err(error) = self.hear(notification) {
                        anstream::eprintln!("error: {error}");
                    }
                }
                Message::Notification(_) | Message::Response(_) => {}
            }
        }
        Ok(if self.is_shut_down { Exit::Well } else { Exit::Error })
    }

    fn hear(&mut self, notification: Notification) -> Result<(), Failed> {
        match notification.method.as_str() {
            DidOpenTextDocument::METHOD => {
                let params: DidOpenTextDocumentParams = serde_json::from_value(notification.params)?;
                self.set(&params.text_document.uri, Some(params.text_document.text))
            }
            DidChangeTextDocument::METHOD => {
                let params: DidChangeTextDocumentParams = serde_json::from_value(notification.params)?;
                let text = params.content_changes.into_iter().next_back().map(|change| change.text);
                self.set(&params.text_document.uri, text)
            }
            DidCloseTextDocument::METHOD => {
                let params: DidCloseTextDocumentParams = serde_json::from_value(notification.params)?;
                self.set(&params.text_document.uri, None)
            }
            DidSaveTextDocument::METHOD => {
                let roots: Vec<PathBuf> = self.open.keys().cloned().collect();
                roots.iter().try_for_each(|path| self.check(&Home::of(path)))
            }
            _ => Ok(()),
        }
    }

    fn set(&mut self, uri: &Uri, text: Option<String>) -> Result<(), Failed> {
        let Some(path) = path_of(uri) else { return Ok(()) };
        match text {
            Some(text) => drop(self.open.insert(path.clone(), text)),
            None => drop(self.open.remove(&path)),
        }
        self.check(&Home::of(&path))
    }

    /// Checks the kit that a document belongs to, and sends the diagnostics of all its documents.
    fn check(&mut self, home: &Home) -> Result<(), Failed> {
        let unsaved: BTreeMap<String, Vec<u8>> = self
            .open
            .iter()
            .filter_map(|(path, text)| {
                Some((path.strip_prefix(&home.root).ok()?.display().to_string(), text.clone().into_bytes()))
            })
            .collect();
        let checked = if home.is_kit {
            check_folder_knowing(&home.root, &Known { unsaved, ..Known::default() })
        } else {
            self.check_single(home)
        };
        let Ok(CheckedFolder { files, checked, beside }) = checked else { return Ok(()) };
        let mut by_document: BTreeMap<PathBuf, Vec<Diagnostic>> = BTreeMap::new();
        for finding in &checked.findings {
            let text = files.text(&finding.place.file).unwrap_or_default();
            by_document
                .entry(home.path_of(&finding.place))
                .or_default()
                .push(diagnostic(home, finding, text, &files));
        }
        if let Some(kit) = checked.kit {
            self.read.insert(home.root.clone(), (kit, beside));
        }
        let here = |path: &PathBuf| path.starts_with(&home.root);
        let before: Vec<PathBuf> = self.with_findings.iter().filter(|path| here(path)).cloned().collect();
        let open: Vec<PathBuf> = self.open.keys().filter(|path| here(path)).cloned().collect();
        let all: BTreeSet<PathBuf> =
            before.into_iter().chain(open).chain(by_document.keys().cloned()).collect();
        for path in all {
            let diagnostics = by_document.remove(&path).unwrap_or_default();
            if diagnostics.is_empty() {
                self.with_findings.remove(&path)
            } else {
                self.with_findings.insert(path.clone())
            };
            let Some(uri) = uri_of(&path) else { continue };
            self.tell(
                PublishDiagnostics::METHOD,
                &PublishDiagnosticsParams { uri, diagnostics, version: None },
            )?;
        }
        Ok(())
    }

    fn check_single(&self, home: &Home) -> Result<CheckedFolder, constans_folder::ReadKitError> {
        let Some(text) = self.open.get(&home.root) else { return check_document(&home.root) };
        let name = home.root.display().to_string();
        let files = constans_core::document::KitFiles::new(BTreeMap::from([(
            name.clone(),
            text.clone().into_bytes(),
        )]));
        let checked = on_large_stack(|| constans_core::check::check_single(&name, text.clone().into_bytes()));
        Ok(CheckedFolder { files, checked, beside: Vec::new() })
    }

    fn tell(&self, method: &str, params: &impl Serialize) -> Result<(), Failed> {
        Ok(self
            .connection
            .sender
            .send(Message::Notification(Notification::new(method.to_owned(), params)))?)
    }

    fn answer(&self, request: Request) -> Response {
        let id = request.id.clone();
        let answered = match request.method.as_str() {
            Completion::METHOD => params::<CompletionParams>(request)
                .map(|params| json(&self.complete(&params.text_document_position))),
            HoverRequest::METHOD => params::<HoverParams>(request)
                .map(|params| json(&self.hover(&params.text_document_position_params))),
            GotoDefinition::METHOD => params::<GotoDefinitionParams>(request)
                .map(|params| json(&self.definition(&params.text_document_position_params))),
            DocumentSymbolRequest::METHOD => params::<DocumentSymbolParams>(request)
                .map(|params| json(&self.symbols(&params.text_document.uri))),
            References::METHOD => params::<ReferenceParams>(request)
                .map(|params| json(&self.references(&params.text_document_position))),
            other => {
                return Response::new_err(
                    id,
                    ErrorCode::MethodNotFound as i32,
                    format!("`{other}` is not answered here"),
                );
            }
        };
        match answered {
            Ok(result) => Response::new_ok(id, result),
            Err(error) => Response::new_err(id, ErrorCode::InvalidParams as i32, error),
        }
    }

    /// Does something with the draft at a position.
    fn at<T>(
        &self,
        params: &TextDocumentPositionParams,
        work: impl FnOnce(&OpenDocument<'_>, usize, &Home) -> T,
    ) -> Option<T> {
        let path = path_of(&params.text_document.uri)?;
        let home = Home::of(&path);
        let text = self.open.get(&path)?;
        let (kit, others) = self.read.get(&home.root)?;
        let offset = offset_of(text, params.position);
        Some(work(&OpenDocument { kit, others, file: &home.file, text }, offset, &home))
    }

    fn complete(&self, params: &TextDocumentPositionParams) -> Option<CompletionResponse> {
        let suggestions = self.at(params, |draft, offset, _| draft.complete(offset))?;
        Some(CompletionResponse::Array(suggestions.into_iter().map(item).collect()))
    }

    fn hover(&self, params: &TextDocumentPositionParams) -> Option<Hover> {
        let hover = self.at(params, |draft, offset, _| draft.hover(offset))??;
        Some(Hover {
            contents: HoverContents::Markup(MarkupContent { kind: MarkupKind::Markdown, value: hover }),
            range: None,
        })
    }

    fn definition(&self, params: &TextDocumentPositionParams) -> Option<GotoDefinitionResponse> {
        let found = self.at(params, |draft, offset, home| {
            let places = draft.definition(offset).into_iter();
            places.map(|place| (home.path_of(&place), place)).collect::<Vec<_>>()
        })?;
        Some(GotoDefinitionResponse::Array(self.locations(found)))
    }

    fn references(&self, params: &TextDocumentPositionParams) -> Option<Vec<Location>> {
        let found = self.at(params, |draft, offset, home| {
            let places = draft.references(offset).into_iter();
            places.map(|place| (home.path_of(&place), place)).collect::<Vec<_>>()
        })?;
        Some(self.locations(found))
    }

    fn locations(&self, found: Vec<(PathBuf, Place)>) -> Vec<Location> {
        let at = |(path, place): (PathBuf, Place)| {
            let text = self
                .open
                .get(&path)
                .cloned()
                .or_else(|| std::fs::read_to_string(&path).ok())
                .unwrap_or_default();
            Some(Location { uri: uri_of(&path)?, range: range_of(&text, &place) })
        };
        found.into_iter().filter_map(at).collect()
    }

    fn symbols(&self, uri: &Uri) -> Option<DocumentSymbolResponse> {
        let path = path_of(uri)?;
        let home = Home::of(&path);
        let text = self.open.get(&path)?;
        let (kit, others) = self.read.get(&home.root)?;
        let symbols =
            OpenDocument { kit, others, file: &home.file, text }.symbols().into_iter().map(|symbol| {
                let kind = match symbol.sort {
                    SymbolSort::Baseline => SymbolKind::MODULE,
                    SymbolSort::Parameter => SymbolKind::VARIABLE,
                    SymbolSort::Clause => SymbolKind::OBJECT,
                };
                let location = Location { uri: uri.clone(), range: range_of(text, &symbol.place) };
                #[expect(deprecated, reason = "the field has to be there")]
                SymbolInformation {
                    name: symbol.name,
                    kind,
                    tags: None,
                    deprecated: None,
                    location,
                    container_name: symbol.within,
                }
            });
        Some(DocumentSymbolResponse::Flat(symbols.collect()))
    }
}

fn params<P: DeserializeOwned>(request: Request) -> Result<P, String> {
    serde_json::from_value(request.params).map_err(|error| error.to_string())
}

fn json(value: &impl Serialize) -> serde_json::Value {
    serde_json::to_value(value).expect("answers are JSON")
}

fn item(suggestion: Suggestion) -> CompletionItem {
    let kind = match suggestion.sort {
        SuggestionSort::Kind => CompletionItemKind::CLASS,
        SuggestionSort::Key => CompletionItemKind::PROPERTY,
        SuggestionSort::Value => CompletionItemKind::VALUE,
        SuggestionSort::Parameter => CompletionItemKind::VARIABLE,
        SuggestionSort::Address => CompletionItemKind::REFERENCE,
        SuggestionSort::File => CompletionItemKind::FILE,
    };
    CompletionItem {
        label: suggestion.label,
        detail: Some(suggestion.detail),
        kind: Some(kind),
        ..CompletionItem::default()
    }
}

fn diagnostic(
    home: &Home,
    finding: &Finding,
    text: &str,
    files: &constans_core::document::KitFiles,
) -> Diagnostic {
    let related = finding.related.iter().filter_map(|(what, place)| {
        let text = files.text(&place.file).unwrap_or_default();
        let location = Location { uri: uri_of(&home.path_of(place))?, range: range_of(text, place) };
        Some(DiagnosticRelatedInformation { location, message: what.clone() })
    });
    let hint = finding.hint.as_ref().map(|hint| format!("\n{hint}")).unwrap_or_default();
    Diagnostic {
        range: range_of(text, &finding.place),
        severity: Some(if finding.level == Level::Error {
            DiagnosticSeverity::ERROR
        } else {
            DiagnosticSeverity::WARNING
        }),
        code: Some(NumberOrString::String(finding.code.to_string())),
        source: Some("constans".to_owned()),
        message: format!("{}{hint}", finding.message),
        related_information: Some(related.collect()).filter(|related: &Vec<_>| !related.is_empty()),
        ..Diagnostic::default()
    }
}

fn range_of(text: &str, place: &Place) -> Range {
    if place.end == 0 {
        return Range::default();
    }
    Range { start: position_of(text, place.start), end: position_of(text, place.end) }
}

/// Columns of the protocol count UTF-16 code units.
fn position_of(text: &str, offset: usize) -> Position {
    let before = text.get(..offset).unwrap_or(text);
    let line = before.matches('\n').count();
    let column: usize = before.rsplit('\n').next().unwrap_or_default().chars().map(char::len_utf16).sum();
    Position {
        line: u32::try_from(line).unwrap_or(u32::MAX),
        character: u32::try_from(column).unwrap_or(u32::MAX),
    }
}

fn offset_of(text: &str, position: Position) -> usize {
    let line_start: usize = text.split_inclusive('\n').take(position.line as usize).map(str::len).sum();
    let mut units = 0;
    for (at, c) in text[line_start..].char_indices() {
        if units >= position.character as usize || c == '\n' {
            return line_start + at;
        }
        units += c.len_utf16();
    }
    text.len()
}

/// What a path in a URI has escaped.
const ESCAPED: &AsciiSet = &CONTROLS
    .add(b' ')
    .add(b'"')
    .add(b'#')
    .add(b'%')
    .add(b'<')
    .add(b'>')
    .add(b'?')
    .add(b'[')
    .add(b']')
    .add(b'`')
    .add(b'{')
    .add(b'}');

fn uri_of(path: &Path) -> Option<Uri> {
    format!("file://{}", utf8_percent_encode(path.to_str()?, ESCAPED)).parse().ok()
}

fn path_of(uri: &Uri) -> Option<PathBuf> {
    let path = uri.as_str().strip_prefix("file://")?;
    Some(PathBuf::from(percent_decode_str(path).decode_utf8().ok()?.into_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_count_as_the_protocol_does() {
        let text = "a = \"ø𝄞x\"\nb = 1\n";
        let at = text.find('x').unwrap();
        assert_eq!(position_of(text, at), Position { line: 0, character: 8 });
        assert_eq!(offset_of(text, Position { line: 0, character: 8 }), at);
        assert_eq!(offset_of(text, Position { line: 9, character: 0 }), text.len());
    }

    #[test]
    fn paths_survive_the_way_through_uris() {
        let path = Path::new("/srv/kits of Skerry/100% [a]/kit.toml");
        assert_eq!(path_of(&uri_of(path).unwrap()).unwrap(), path);
    }
}
