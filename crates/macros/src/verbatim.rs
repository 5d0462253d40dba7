//! `verbatim!`: hand-written SQL with expressions in it, checked at compile time.

use std::iter::Peekable;
use std::str::Chars;

use proc_macro2::{Span, TokenStream};
use quote::{ToTokens, quote};
use syn::parse::{Parse, ParseStream};
use syn::{Expr, Ident, LitStr, Path, Token};

use crate::attr::Mistakes;

/// The first words of statements that begin or end transactions.
const OF_TRANSACTIONS: [&str; 8] =
    ["ABORT", "BEGIN", "COMMIT", "END", "RELEASE", "ROLLBACK", "SAVEPOINT", "START"];

/// The beginning of a list of columns between braces.
const COLUMNS_OF: &str = "columns of ";

/// The names that a variant can have, each a method of core's `Function`.
const DIALECTS: [&str; 4] = ["sqlite", "postgres", "mariadb", "mysql"];

/// The input of the macro: one text for all dialects or several, then arguments.
pub(crate) struct Input {
    variants: Vec<Variant>,
    arguments: Vec<Argument>,
}

struct Variant {
    dialect: Option<Ident>,
    text: LitStr,
}

struct Argument {
    name: Option<Ident>,
    value: Expr,
}

/// The columns of a struct in a select list: `{columns of Specimen as s}`.
struct ColumnsOf {
    row: Path,
    alias: String,
}

impl Parse for Input {
    fn parse(input: ParseStream<'_>) -> syn::Result<Input> {
        let mut variants = Vec::new();
        if input.peek(Ident) && input.peek2(Token![:]) && !input.peek2(Token![::]) {
            while input.peek(Ident) && input.peek2(Token![:]) && !input.peek2(Token![::]) {
                let dialect = Some(input.parse()?);
                input.parse::<Token![:]>()?;
                variants.push(Variant { dialect, text: text(input)? });
                comma(input)?;
            }
        } else {
            variants.push(Variant { dialect: None, text: text(input)? });
            comma(input)?;
        }
        let mut arguments = Vec::new();
        while !input.is_empty() {
            let named = input.peek(Ident) && input.peek2(Token![=]) && !input.peek2(Token![==]);
            let name = match named {
                true => {
                    let name = input.parse()?;
                    input.parse::<Token![=]>()?;
                    Some(name)
                }
                false => None,
            };
            arguments.push(Argument { name, value: input.parse()? });
            comma(input)?;
        }
        Ok(Input { variants, arguments })
    }
}

fn text(input: ParseStream<'_>) -> syn::Result<LitStr> {
    input.parse().map_err(|mistake| {
        syn::Error::new(
            mistake.span(),
            "the SQL has to be a literal of the program; a value goes in with `{}`, and for text made \
             at run time see `trusting_text_made_at_run_time` of `Verbatim` and `WholeStatement`",
        )
    })
}

fn comma(input: ParseStream<'_>) -> syn::Result<()> {
    if !input.is_empty() {
        input.parse::<Token![,]>()?;
    }
    Ok(())
}

/// Expands `verbatim!`: a fragment.
pub(crate) fn expand(input: Input) -> TokenStream {
    expand_as(input, Kind::Fragment)
}

/// Expands `statement!`: a whole statement.
pub(crate) fn expand_statement(input: Input) -> TokenStream {
    expand_as(input, Kind::Statement)
}

/// The kind of hand-written SQL.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Fragment,
    Statement,
}

fn expand_as(input: Input, kind: Kind) -> TokenStream {
    let mut mistakes = Mistakes::default();
    let mut forms = TokenStream::new();
    let mut arguments = Arguments::new(input.arguments);
    arguments.take_columns(&input.variants, kind, &mut mistakes);
    let mut seen: Vec<String> = Vec::new();
    for Variant { dialect, text } in &input.variants {
        if let Some(dialect) = dialect {
            let name = dialect.to_string();
            if !DIALECTS.contains(&name.as_str()) {
                let known = DIALECTS.map(|name| format!("`{name}`")).join(", ");
                mistakes.at(dialect.span(), format!("unknown dialect; the dialects are {known}"));
                continue;
            }
            if seen.contains(&name) {
                mistakes.at(dialect.span(), "this dialect has a variant already");
            }
            seen.push(name);
        }
        if let Some(mistake) = mistake_in(&text.value(), kind) {
            mistakes.at(text.span(), mistake);
        }
        match form(&text.value(), text.span(), &mut arguments) {
            Ok(form) => {
                let method = dialect
                    .clone()
                    .unwrap_or_else(|| Ident::new("all", text.span()));
                // MySQL's variant is MariaDB's too, unless MariaDB's own comes later.
                if method == "mysql" {
                    forms = quote!(.mysql(#form) #forms);
                } else {
                    forms.extend(quote!(.#method(#form)));
                }
            }
            Err(mistake) => mistakes.add(mistake),
        }
    }
    arguments.check_all_used(&mut mistakes);
    let errors = mistakes.into_error().map(|error| {
        // A fragment without mistakes takes its place, so that one mistake is one error.
        forms = quote!(.all("NULL"));
        error.to_compile_error()
    });
    let given = arguments.given;
    let list = arguments.list.iter().enumerate();
    let values = list.map(|(number, Argument { name, value })| match name {
        // A schema that is not passed is the handle's.
        Some(name) if number >= given && name == "schema" => {
            quote!(::nepheline::internal::schema_name())
        }
        _ => quote!(::nepheline::internal::argument(#value)),
    });
    let prefixed = arguments.columns.len() > 1;
    let columns = arguments.columns.iter().map(|ColumnsOf { row, alias }| {
        quote!(::nepheline::internal::columns_of::<#row>(#alias, #prefixed))
    });
    let fragment = Ident::new("FRAGMENT", Span::mixed_site());
    let made = match kind {
        Kind::Fragment => quote!(::nepheline::Verbatim::fragment),
        Kind::Statement => quote!(::nepheline::WholeStatement::of),
    };
    quote! {{
        #errors
        static #fragment: ::nepheline::internal::Function =
            ::nepheline::internal::Function::verbatim() #forms;
        #made(&#fragment, [#(#columns,)* #(#values),*])
    }}
}

/// The arguments in the order of their numbers. Variables that are only named in the text come last.
struct Arguments {
    list: Vec<Argument>,
    used: Vec<bool>,
    given: usize,
    /// The lists of columns, which are arguments before all values.
    columns: Vec<ColumnsOf>,
}

impl Arguments {
    fn new(list: Vec<Argument>) -> Arguments {
        Arguments { used: vec![false; list.len()], given: list.len(), list, columns: Vec::new() }
    }

    /// Finds the lists of columns that texts name: they are the first arguments.
    fn take_columns(&mut self, variants: &[Variant], kind: Kind, mistakes: &mut Mistakes) {
        for Variant { text, .. } in variants {
            let value = text.value();
            for (braces, _) in value
                .split('{')
                .skip(1)
                .filter_map(|rest| rest.split_once('}'))
            {
                let Some(columns) = braces.trim().strip_prefix(COLUMNS_OF) else { continue };
                let parsed = columns.rsplit_once(" as ").and_then(|(row, alias)| {
                    let row = syn::parse_str::<Path>(row).ok()?;
                    let alias = syn::parse_str::<Ident>(alias).ok()?.to_string();
                    Some(ColumnsOf { row: located(row, text.span()), alias })
                });
                match parsed {
                    _ if kind == Kind::Fragment => mistakes.at(
                        text.span(),
                        "a list of columns stands in a whole statement; see `statement!`",
                    ),
                    None => mistakes.at(text.span(), "write `{columns of Struct as alias}`"),
                    Some(columns) if self.columns.iter().all(|c| c.alias != columns.alias) => {
                        self.columns.push(columns);
                    }
                    Some(_) => {}
                }
            }
        }
    }

    fn numbered(&mut self, number: usize, span: Span) -> syn::Result<usize> {
        if number >= self.given {
            let given = match self.given {
                0 => "none is given".to_owned(),
                1 => "only one is given".to_owned(),
                given => format!("only {given} are given"),
            };
            let message = format!("the text uses argument {number}, counted from 0, but {given}");
            return Err(syn::Error::new(span, message));
        }
        self.used[number] = true;
        Ok(number)
    }

    fn named(&mut self, name: &str, span: Span) -> syn::Result<usize> {
        let known = |argument: &Argument| argument.name.as_ref().is_some_and(|n| n == name);
        let number = match self.list.iter().position(known) {
            Some(number) => number,
            None => {
                let name: Ident = syn::parse_str(name).map_err(|_| {
                    let message = format!(
                        "`{{{name}}}` is not a variable name; write braces as `{{{{` and `}}}}`"
                    );
                    syn::Error::new(span, message)
                })?;
                let name = Ident::new(&name.to_string(), span);
                let value = syn::parse2(name.to_token_stream())?;
                self.list.push(Argument { name: Some(name), value });
                self.used.push(true);
                self.list.len() - 1
            }
        };
        self.used[number] = true;
        Ok(number)
    }

    fn check_all_used(&self, mistakes: &mut Mistakes) {
        for (argument, used) in self.list.iter().zip(&self.used) {
            if !used {
                let span = syn::spanned::Spanned::span(&argument.value);
                mistakes.at(span, "the text has no `{}` for this argument");
            }
        }
    }
}

/// Returns the text with a number in each pair of braces, as core reads it.
fn form(text: &str, span: Span, arguments: &mut Arguments) -> syn::Result<String> {
    let mut form = String::with_capacity(text.len());
    let mut rest = text;
    let mut next = 0;
    while let Some(at) = rest.find(['{', '}']) {
        form.push_str(&rest[..at]);
        rest = &rest[at..];
        if rest.starts_with("{{") || rest.starts_with("}}") {
            form.push_str(&rest[..2]);
            rest = &rest[2..];
            continue;
        }
        let Some(end) = rest.find('}').filter(|_| rest.starts_with('{')) else {
            let message = "unbalanced brace; write braces as `{{` and `}}`";
            return Err(syn::Error::new(span, message));
        };
        let number = match rest[1..end].trim() {
            "" => {
                next += 1;
                arguments.columns.len() + arguments.numbered(next - 1, span)?
            }
            number if number.bytes().all(|byte| byte.is_ascii_digit()) => {
                let number = number.parse().unwrap_or(usize::MAX);
                arguments.columns.len() + arguments.numbered(number, span)?
            }
            name if name.starts_with(COLUMNS_OF) => {
                let alias = name.rsplit_once(" as ").map(|(_, alias)| alias.trim());
                let of = |columns: &ColumnsOf| Some(&*columns.alias) == alias;
                let place = arguments.columns.iter().position(of);
                place.unwrap_or_default()
            }
            name => arguments.columns.len() + arguments.named(name, span)?,
        };
        form.push_str(&format!("{{{number}}}"));
        rest = &rest[end + 1..];
    }
    form.push_str(rest);
    Ok(form)
}

/// Returns a path whose mistakes are reported at the text that names it.
fn located(path: Path, span: Span) -> Path {
    let tokens = path.to_token_stream().into_iter().map(|mut token| {
        token.set_span(span);
        token
    });
    syn::parse2(tokens.collect()).unwrap_or(path)
}

/// Returns what would make the text more or less than one expression, or one statement.
fn mistake_in(text: &str, kind: Kind) -> Option<&'static str> {
    let is_whole = kind == Kind::Statement;
    let word: String = text
        .trim_start()
        .chars()
        .take_while(char::is_ascii_alphabetic)
        .collect();
    if is_whole
        && OF_TRANSACTIONS
            .iter()
            .any(|known| known.eq_ignore_ascii_case(&word))
    {
        return Some(
            "a statement cannot begin or end a transaction; use `transaction` of the handle",
        );
    }
    let mut open = Vec::new();
    let mut characters = text.chars().peekable();
    while let Some(character) = characters.next() {
        if matches!(character, '\'' | '"' | '`') {
            match mistake_in_quotes(&mut characters, character) {
                Some(mistake) => return Some(mistake),
                None => continue,
            }
        }
        match (character, characters.peek()) {
            ('-', Some('-')) | ('/', Some('*')) | ('#', Some(' ') | None) => {
                return Some(match kind {
                    Kind::Fragment => "a comment would swallow the SQL after the fragment",
                    Kind::Statement => "leave comments out of the text; write them in Rust",
                });
            }
            (';', _) => return Some("a semicolon would end the statement"),
            ('\0', _) => return Some("a NUL cannot be sent to a database"),
            ('?', Some('|' | '&')) => {}
            ('?', _) => {
                return Some(
                    "`?` would be read as a placeholder; write `{}` for a value, and `jsonb_exists(a, b)` for \
                     PostgreSQL's operator `?`",
                );
            }
            (',', _) if open.is_empty() && !is_whole => {
                return Some("a comma outside brackets makes a list; a fragment is one expression");
            }
            ('$', Some('0'..='9')) => {
                return Some(
                    "`$` and a number would be read as a placeholder; write `{}` for a value",
                );
            }
            (':', Some(':')) => {
                characters.next();
            }
            (':' | '@', Some(next)) if next.is_alphabetic() || *next == '_' => {
                return Some(
                    "a name after `:` or `@` would be read as a placeholder; write `{}` for a value",
                );
            }
            ('(', _) => open.push(')'),
            ('[', _) => open.push(']'),
            (')' | ']', _) if open.pop() != Some(character) => {
                return Some("unbalanced bracket");
            }
            _ => {}
        }
    }
    match open.is_empty() {
        true if text.trim().is_empty() => Some("there is no SQL in it"),
        true => None,
        false => Some("unbalanced bracket"),
    }
}

/// Returns what is wrong in a quoted text, and goes on behind it.
fn mistake_in_quotes(characters: &mut Peekable<Chars<'_>>, mark: char) -> Option<&'static str> {
    while let Some(character) = characters.next() {
        match (character, characters.peek()) {
            (end, _) if end == mark => return None,
            ('{', Some('{')) => {
                characters.next();
            }
            ('{', _) => {
                return Some(
                    "`{}` inside quotes would be part of the text; leave out the quotes: a value is a bind",
                );
            }
            _ => {}
        }
    }
    Some("unbalanced quotation mark")
}
