//! Encrypted connections, with `rustls`. The server's certificate and name are always checked, against
//! Mozilla's roots or a file. The roots of the system would need a verifier of their own, which `mysql_async`
//! does not accept, and both engines should trust the same roots.

#[cfg(feature = "postgres")]
use std::path::Path;

#[cfg(feature = "postgres")]
use nepheline_core::Error;
#[cfg(feature = "postgres")]
use rustls::pki_types::CertificateDer;
#[cfg(feature = "postgres")]
use rustls::pki_types::pem::PemObject;

/// Returns the encryption of PostgreSQL connections, which trusts the certificates of a PEM file, or
/// Mozilla's without one.
#[cfg(feature = "postgres")]
pub(crate) fn for_postgres(
    root: Option<&Path>,
) -> Result<tokio_postgres_rustls::MakeRustlsConnect, Error> {
    let mut roots = rustls::RootCertStore::empty();
    match root {
        None => roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned()),
        Some(path) => {
            let unusable = |err: Box<dyn std::error::Error + Send + Sync>| {
                Error::cannot_open(&format!("with the certificates of `{}`", path.display()), err)
            };
            let certificates =
                CertificateDer::pem_file_iter(path).map_err(|err| unusable(err.into()))?;
            for certificate in certificates {
                let certificate = certificate.map_err(|err| unusable(err.into()))?;
                roots.add(certificate).map_err(|err| unusable(err.into()))?;
            }
        }
    }
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|err| Error::cannot_open("with encryption", err))?
        .with_root_certificates(roots)
        .with_no_client_auth();
    Ok(tokio_postgres_rustls::MakeRustlsConnect::new(config))
}

/// Returns the encryption of MariaDB and MySQL connections.
#[cfg(feature = "mysql")]
pub(crate) fn for_mysql(root: Option<&std::path::Path>) -> mysql_async::SslOpts {
    match root {
        None => mysql_async::SslOpts::default(),
        Some(path) => mysql_async::SslOpts::default()
            .with_disable_built_in_roots(true)
            .with_root_certs(vec![path.to_path_buf().into()]),
    }
}
