//! `call!`: a function or procedure of the database, by its name.

use proc_macro2::{Span, TokenStream};
use quote::quote;
use syn::parse::{Parse, ParseStream};
use syn::punctuated::Punctuated;
use syn::{Expr, Ident, LitStr, Token};

/// The longest name in bytes that no engine cuts.
const LONGEST_NAME: usize = 63;

/// The input of the macro: a name, and arguments in brackets.
pub(crate) struct Input {
    name: LitStr,
    arguments: Punctuated<Argument, Token![,]>,
}

enum Argument {
    In(Expr),
    /// `inout value`: the procedure returns it, too.
    InOut(Expr),
    /// `_`: the procedure sets it.
    Out,
}

impl Parse for Input {
    fn parse(input: ParseStream<'_>) -> syn::Result<Input> {
        let name: LitStr = input.parse().map_err(|mistake| {
            syn::Error::new(
                mistake.span(),
                "the name has to be a literal of the program: `call!(\"name\"(arguments))`",
            )
        })?;
        let arguments;
        syn::parenthesized!(arguments in input);
        Ok(Input { name, arguments: Punctuated::parse_terminated(&arguments)? })
    }
}

impl Parse for Argument {
    fn parse(input: ParseStream<'_>) -> syn::Result<Argument> {
        if input.peek(Token![_]) {
            input.parse::<Token![_]>()?;
            return Ok(Argument::Out);
        }
        let ahead = input.fork();
        let is_marked = ahead.parse::<Ident>().is_ok_and(|word| word == "inout")
            && (ahead.peek(Ident) || ahead.peek(syn::Lit) || ahead.peek(Token![&]));
        if is_marked {
            input.parse::<Ident>()?;
            return Ok(Argument::InOut(input.parse()?));
        }
        input.parse().map(Argument::In)
    }
}

/// Expands `call!`.
pub(crate) fn expand(input: Input) -> TokenStream {
    let name = input.name.value();
    let parts: Vec<&str> = name.split('.').collect();
    let fault = match () {
        () if parts.iter().any(|part| part.is_empty()) => {
            Some("the name, or a part of it, is empty")
        }
        () if parts.len() > 2 => Some("the name has at most two parts: `schema.function`"),
        () if parts.iter().any(|part| part.len() > LONGEST_NAME) => {
            Some("the name is longer than 63 bytes, so PostgreSQL would cut it")
        }
        () if name.contains('\0') => Some("a NUL cannot be sent to a database"),
        () => None,
    };
    let error = fault.map(|fault| syn::Error::new(input.name.span(), fault).to_compile_error());
    let quoted = |mark: char| {
        let quoted = parts.iter().map(|part| {
            let part = part.replace(mark, &format!("{mark}{mark}"));
            let part = part.replace('{', "{{").replace('}', "}}");
            format!("{mark}{part}{mark}")
        });
        format!("{}({{+}})", quoted.collect::<Vec<_>>().join("."))
    };
    let (standard, mysql) = (quoted('"'), quoted('`'));
    let [call_standard, call_mysql] = [&standard, &mysql].map(|form| format!("CALL {form}"));
    let select = format!("SELECT {standard}::text");
    let arguments = input.arguments.iter().map(|argument| match argument {
        Argument::In(value) => quote!(::nepheline::internal::in_argument(#value)),
        Argument::InOut(value) => quote!(::nepheline::internal::in_out_argument(#value)),
        Argument::Out => quote!(::nepheline::internal::out_argument()),
    });
    let callable = Ident::new("CALLABLE", Span::mixed_site());
    quote! {{
        #error
        static #callable: ::nepheline::internal::Callable = ::nepheline::internal::Callable::of(
            [#standard, #mysql], [#call_standard, #call_mysql], #select,
        );
        ::nepheline::DatabaseCall::of(&#callable, [#(#arguments),*])
    }}
}
