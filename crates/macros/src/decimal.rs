//! `dec!`: a decimal constant.

use proc_macro2::{Span, TokenStream};
use quote::quote;
use rust_decimal::Decimal;
use syn::parse::{Parse, ParseStream};
use syn::{Lit, Token};

/// The input of the macro: a number, as it is written.
pub(crate) struct Input(Decimal);

impl Parse for Input {
    fn parse(input: ParseStream<'_>) -> syn::Result<Input> {
        let is_negative = input.parse::<Option<Token![-]>>()?.is_some();
        let literal: Lit = input.parse().map_err(|mistake| refused(mistake.span()))?;
        let (digits, suffix) = match &literal {
            Lit::Int(whole) => (whole.base10_digits().to_owned(), whole.suffix()),
            Lit::Float(fraction) => (fraction.base10_digits().to_owned(), fraction.suffix()),
            other => return Err(refused(other.span())),
        };
        if !suffix.is_empty() {
            return Err(refused(literal.span()));
        }
        let parsed = match digits.contains(['e', 'E']) {
            true => Decimal::from_scientific(&digits),
            false => Decimal::from_str_exact(&digits),
        };
        match parsed {
            Ok(value) if is_negative => Ok(Input(-value)),
            Ok(value) => Ok(Input(value)),
            Err(_) => {
                let message = "a decimal has at most 28 digits, and at most 28 after the point";
                Err(syn::Error::new(literal.span(), message))
            }
        }
    }
}

fn refused(at: Span) -> syn::Error {
    syn::Error::new(at, "`dec!` takes a number without a suffix, such as `dec!(-12.50)`")
}

/// Expands `dec!`: the parts of the number, which make a constant.
pub(crate) fn expand(input: Input) -> TokenStream {
    let Input(value) = input;
    let parts = value.unpack();
    let (low, middle, high) = (parts.lo, parts.mid, parts.hi);
    let (is_negative, scale) = (parts.negative, parts.scale);
    quote! {
        ::nepheline::internal::Decimal::from_parts(#low, #middle, #high, #is_negative, #scale)
    }
}
