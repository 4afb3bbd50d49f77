//! Buckets of S3, and of the many stores that speak its protocol.

use std::io::Result;

use object_store::aws::AmazonS3Builder;

use super::bucket::{Bucket, Kind, is_in_cloud, is_yes, retries, unfit, variable};
use super::connect::Connector;
use super::profile;

/// The kind.
pub(super) const KIND: Kind = Kind {
    scheme: "s3",
    open,
    keys: "set AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or name a profile with AWS_PROFILE",
    gives_ends: true,
};

/// Variables that say where keys come from, beside keys themselves.
const SOURCES: [&str; 3] = [
    "AWS_WEB_IDENTITY_TOKEN_FILE",
    "AWS_CONTAINER_CREDENTIALS_RELATIVE_URI",
    "AWS_CONTAINER_CREDENTIALS_FULL_URI",
];

/// Opens a bucket. Keys are those of the environment, else of a profile, else of the machine; without any, requests are not
/// signed, as for buckets that anyone may read.
fn open(name: &str) -> Result<Bucket> {
    let mut builder = AmazonS3Builder::from_env()
        .with_bucket_name(name)
        .with_http_connector(Connector)
        .with_retry(retries());
    let is_unsigned = is_yes("AWS_SKIP_SIGNATURE");
    let mut has_keys = variable("AWS_ACCESS_KEY_ID").is_some();
    let profile = profile::current();
    let has_region = ["AWS_REGION", "AWS_DEFAULT_REGION"].into_iter().any(|name| variable(name).is_some());
    if let Some(region) = profile.get("region").filter(|_| !has_region) {
        builder = builder.with_region(region);
    }
    let has_endpoint = ["AWS_ENDPOINT_URL_S3", "AWS_ENDPOINT_URL", "AWS_ENDPOINT"]
        .into_iter()
        .any(|name| variable(name).is_some());
    if let Some(endpoint) = profile.get("endpoint_url").filter(|_| !has_endpoint) {
        builder = builder.with_endpoint(endpoint);
    }
    let keys = (profile.get("aws_access_key_id"), profile.get("aws_secret_access_key"));
    if let (Some(id), Some(secret)) = keys
        && !has_keys
    {
        builder = builder.with_access_key_id(id).with_secret_access_key(secret);
        if let Some(token) = profile.get("aws_session_token") {
            builder = builder.with_token(token);
        }
        has_keys = true;
    }
    has_keys |= SOURCES.into_iter().any(|name| variable(name).is_some());
    let has_keys = !is_unsigned && (has_keys || is_in_cloud());
    let store = builder.with_skip_signature(!has_keys).build().map_err(|e| unfit(&e))?;
    Ok(Bucket { store: Box::new(store), has_keys })
}
