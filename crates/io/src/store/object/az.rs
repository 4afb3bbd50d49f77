//! Containers of Azure's blob storage; an address names a container, the environment names the account.

use std::io::{Error, ErrorKind, Result};

use object_store::azure::MicrosoftAzureBuilder;

use super::bucket::{Bucket, Kind, is_in_cloud, is_yes, retries, unfit, variable};
use super::connect::Connector;

/// The kind.
pub(super) const KIND: Kind = Kind {
    scheme: "az",
    open,
    keys: "set AZURE_STORAGE_ACCOUNT_KEY, AZURE_STORAGE_SAS_TOKEN or AZURE_STORAGE_CONNECTION_STRING",
    gives_ends: false,
};

/// Variables that hold keys, or say where they come from.
const SOURCES: [&str; 9] = [
    "AZURE_STORAGE_ACCOUNT_KEY",
    "AZURE_STORAGE_ACCESS_KEY",
    "AZURE_STORAGE_SAS_TOKEN",
    "AZURE_STORAGE_SAS_KEY",
    "AZURE_STORAGE_TOKEN",
    "AZURE_STORAGE_CLIENT_SECRET",
    "AZURE_CLIENT_SECRET",
    "AZURE_FEDERATED_TOKEN_FILE",
    "IDENTITY_ENDPOINT",
];

/// Opens a container. Keys are those of the environment, else the machine's; without any, requests are not signed.
fn open(name: &str) -> Result<Bucket> {
    let mut builder = MicrosoftAzureBuilder::from_env()
        .with_container_name(name)
        .with_http_connector(Connector)
        .with_retry(retries());
    let mut account = variable("AZURE_STORAGE_ACCOUNT_NAME");
    let mut has_keys = SOURCES.into_iter().any(|name| variable(name).is_some());
    if let Some(text) = variable("AZURE_STORAGE_CONNECTION_STRING").filter(|_| !has_keys) {
        for (key, value) in settings(&text) {
            match key {
                "AccountName" => account = Some(value.to_owned()),
                "AccountKey" => builder = builder.with_access_key(value),
                "BlobEndpoint" => builder = builder.with_endpoint(value.trim_end_matches('/').to_owned()),
                "SharedAccessSignature" => builder = builder.with_sas_authorization(pairs(value)),
                _ => continue,
            }
            has_keys |= ["AccountKey", "SharedAccessSignature"].contains(&key);
        }
    }
    let is_emulator = is_yes("AZURE_STORAGE_USE_EMULATOR");
    match account {
        Some(account) => builder = builder.with_account(account),
        None if is_emulator => {}
        None => {
            let what = "no account is named for it: set AZURE_STORAGE_ACCOUNT_NAME";
            return Err(Error::new(ErrorKind::InvalidInput, what));
        }
    }
    let is_unsigned = is_yes("AZURE_SKIP_SIGNATURE");
    let has_keys =
        is_emulator || !is_unsigned && (has_keys || is_yes("AZURE_USE_AZURE_CLI") || is_in_cloud());
    let store = builder.with_skip_signature(!has_keys).build().map_err(|e| unfit(&e))?;
    Ok(Bucket { store: Box::new(store), has_keys })
}

/// The settings of a connection string, `Name=value;Name=value`.
fn settings(text: &str) -> impl Iterator<Item = (&str, &str)> {
    text.split(';').filter_map(|part| part.trim().split_once('='))
}

/// The pairs of a signature, which stand in it as in a query.
fn pairs(signature: &str) -> Vec<(String, String)> {
    let pairs = url::form_urlencoded::parse(signature.trim_start_matches('?').as_bytes());
    pairs.map(|(name, value)| (name.into_owned(), value.into_owned())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_connection_string_is_taken_apart() {
        let text = "DefaultEndpointsProtocol=https;AccountName=dairy;AccountKey=bWlsaw==;BlobEndpoint=http://h:1/dairy;";
        let found: Vec<_> = settings(text).collect();
        assert_eq!(
            found[1..],
            [("AccountName", "dairy"), ("AccountKey", "bWlsaw=="), ("BlobEndpoint", "http://h:1/dairy")]
        );
        let pairs = pairs("?sv=2024&sig=a%2Fb%3D");
        assert_eq!(pairs, [("sv".to_owned(), "2024".to_owned()), ("sig".to_owned(), "a/b=".to_owned())]);
    }
}
