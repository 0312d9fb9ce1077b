//! What a server of buckets does by the S3 protocol: most buckets are folders of a crate that nobody here wrote; those with object
//! lock, of which that crate knows nothing, keep versions on a [`Shelf`].

use super::shelf::{Shelf, Version};
use crate::fault::Device;
use base64::{Engine, engine::general_purpose::STANDARD};
use futures::TryStreamExt;
use md5::{Digest, Md5};
use s3s::{
    Body, S3, S3Request, S3Response, S3Result,
    dto::{
        DeleteMarkerEntry, DeleteObjectInput, DeleteObjectOutput, DeleteObjectsInput,
        DeleteObjectsOutput, DeletedObject, ETag, GetObjectInput, GetObjectLockConfigurationInput,
        GetObjectLockConfigurationOutput, GetObjectOutput, HeadObjectInput, HeadObjectOutput,
        ListObjectVersionsInput, ListObjectVersionsOutput, ListObjectsV2Input, ListObjectsV2Output,
        Object, ObjectLockConfiguration, ObjectLockEnabled, ObjectVersion, PutObjectInput,
        PutObjectOutput, PutObjectRetentionInput, PutObjectRetentionOutput, StreamingBlob,
        Timestamp,
    },
    s3_error,
};
use s3s_fs::FileSystem;
use std::{
    collections::BTreeMap,
    io,
    time::{Duration, UNIX_EPOCH},
};

/// Entries of one page of a list.
const PAGE: usize = 1_000;

pub(super) struct Buckets {
    pub(super) plain: FileSystem,
    pub(super) locked: BTreeMap<String, Shelf>,
    pub(super) device: Device,
}

fn millis(at: Timestamp) -> u64 {
    let at = time::OffsetDateTime::from(at).unix_timestamp_nanos() / 1_000_000;
    u64::try_from(at).unwrap_or_default()
}

fn timestamp(ms: u64) -> Timestamp {
    Timestamp::from(UNIX_EPOCH + Duration::from_millis(ms))
}

/// No two versions are called the same.
fn tag(version: &Version) -> ETag {
    ETag::Strong(version.id.clone())
}

fn failed(e: &io::Error) -> s3s::S3Error {
    tracing::error!(%e, "a shelf can't be written");
    s3_error!(InternalError)
}

async fn whole(body: Option<StreamingBlob>) -> S3Result<Vec<u8>> {
    let Some(body) = body else { return Ok(vec![]) };
    let read = body.try_fold(Vec::new(), |mut all, part| async move {
        all.extend_from_slice(&part);
        Ok(all)
    });
    read.await.map_err(|_| s3_error!(IncompleteBody))
}

impl Buckets {
    /// What time it is at this server, in milliseconds since 1970.
    pub(super) fn now(&self) -> u64 {
        super::now(&self.device)
    }

    fn there(shelf: &Shelf, key: &str, id: Option<&str>) -> S3Result<Version> {
        match (shelf.version(key, id), id) {
            (Some(version), _) if !version.marker => Ok(version),
            (Some(_), Some(_)) => Err(s3_error!(MethodNotAllowed)),
            (None, Some(_)) => Err(s3_error!(NoSuchVersion)),
            (_, None) => Err(s3_error!(NoSuchKey)),
        }
    }

    /// Where no versions are kept there is one of each, which is called so by the protocol.
    async fn one_of_each(
        &self,
        req: S3Request<ListObjectVersionsInput>,
    ) -> S3Result<S3Response<ListObjectVersionsOutput>> {
        let asked = req.map_input(|input| ListObjectsV2Input {
            bucket: input.bucket,
            prefix: input.prefix,
            start_after: input.key_marker,
            ..ListObjectsV2Input::default()
        });
        let found = self.plain.list_objects_v2(asked).await?.output;
        let all = found.contents.unwrap_or_default();
        let more = found.is_truncated.unwrap_or(false);
        let version = |o: &Object| ObjectVersion {
            key: o.key.clone(),
            last_modified: o.last_modified.clone(),
            size: o.size,
            version_id: Some("null".into()),
            ..ObjectVersion::default()
        };
        Ok(S3Response::new(ListObjectVersionsOutput {
            is_truncated: Some(more),
            next_key_marker: all.last().filter(|_| more).and_then(|o| o.key.clone()),
            versions: Some(all.iter().map(version).collect()),
            ..ListObjectVersionsOutput::default()
        }))
    }

    async fn put(
        &self,
        shelf: &Shelf,
        input: PutObjectInput,
    ) -> S3Result<S3Response<PutObjectOutput>> {
        let body = whole(input.body).await?;
        let digest = STANDARD.encode(Md5::digest(&body));
        match &input.content_md5 {
            Some(said) if *said != digest => return Err(s3_error!(BadDigest)),
            None if input.object_lock_retain_until_date.is_some() => {
                return Err(s3_error!(
                    InvalidRequest,
                    "Object lock needs a digest of the body."
                ));
            }
            Some(_) | None => {}
        }
        let newest = shelf.version(&input.key, None);
        if input.if_none_match.is_some() && newest.is_some_and(|v| !v.marker) {
            return Err(s3_error!(PreconditionFailed));
        }
        let now = self.now();
        let until = input.object_lock_retain_until_date.map(millis);
        if until.is_some_and(|u| u <= now) {
            return Err(s3_error!(InvalidArgument, "That time is over."));
        }
        let put = shelf.put(&input.key, Some(&body), now);
        let version = put.map_err(|e| failed(&e))?;
        if let Some(until) = until {
            version.retain(until).map_err(|e| failed(&e))?;
        }
        Ok(S3Response::new(PutObjectOutput {
            e_tag: Some(tag(&version)),
            version_id: Some(version.id),
            ..PutObjectOutput::default()
        }))
    }
}

#[async_trait::async_trait]
impl S3 for Buckets {
    async fn put_object(
        &self,
        req: S3Request<PutObjectInput>,
    ) -> S3Result<S3Response<PutObjectOutput>> {
        match self.locked.get(&req.input.bucket) {
            Some(shelf) => self.put(shelf, req.input).await,
            None => self.plain.put_object(req).await,
        }
    }

    async fn get_object(
        &self,
        req: S3Request<GetObjectInput>,
    ) -> S3Result<S3Response<GetObjectOutput>> {
        let Some(shelf) = self.locked.get(&req.input.bucket) else {
            return self.plain.get_object(req).await;
        };
        let input = req.input;
        let version = Buckets::there(shelf, &input.key, input.version_id.as_deref())?;
        let mut body = version.read().map_err(|e| failed(&e))?;
        let mut content_range = None;
        if let Some(range) = input.range {
            let all = body.len() as u64;
            let part = range.check(all)?;
            content_range = Some(format!("bytes {}-{}/{all}", part.start, part.end - 1));
            let at = |n: u64| usize::try_from(n).unwrap_or(usize::MAX);
            body = body
                .get(at(part.start)..at(part.end))
                .unwrap_or_default()
                .to_vec();
        }
        Ok(S3Response::new(GetObjectOutput {
            content_length: i64::try_from(body.len()).ok(),
            content_range,
            last_modified: Some(timestamp(version.made())),
            e_tag: Some(tag(&version)),
            version_id: Some(version.id),
            body: Some(StreamingBlob::from(Body::from(body))),
            ..GetObjectOutput::default()
        }))
    }

    async fn head_object(
        &self,
        req: S3Request<HeadObjectInput>,
    ) -> S3Result<S3Response<HeadObjectOutput>> {
        let Some(shelf) = self.locked.get(&req.input.bucket) else {
            return self.plain.head_object(req).await;
        };
        let version = Buckets::there(shelf, &req.input.key, req.input.version_id.as_deref())?;
        Ok(S3Response::new(HeadObjectOutput {
            content_length: i64::try_from(version.size).ok(),
            object_lock_retain_until_date: version.until().map(timestamp),
            last_modified: Some(timestamp(version.made())),
            e_tag: Some(tag(&version)),
            version_id: Some(version.id),
            ..HeadObjectOutput::default()
        }))
    }

    async fn delete_object(
        &self,
        req: S3Request<DeleteObjectInput>,
    ) -> S3Result<S3Response<DeleteObjectOutput>> {
        let Some(shelf) = self.locked.get(&req.input.bucket) else {
            return self.plain.delete_object(req).await;
        };
        let (key, now) = (&req.input.key, self.now());
        let Some(id) = req.input.version_id else {
            let marker = shelf.put(key, None, now).map_err(|e| failed(&e))?;
            return Ok(S3Response::new(DeleteObjectOutput {
                delete_marker: Some(true),
                version_id: Some(marker.id),
                ..DeleteObjectOutput::default()
            }));
        };
        if let Some(version) = shelf.version(key, Some(&id)) {
            if version.until().is_some_and(|u| u > now) {
                return Err(s3_error!(AccessDenied, "It is protected by object lock."));
            }
            version.remove().map_err(|e| failed(&e))?;
        }
        Ok(S3Response::with_status(
            DeleteObjectOutput::default(),
            hyper::StatusCode::NO_CONTENT,
        ))
    }

    async fn delete_objects(
        &self,
        req: S3Request<DeleteObjectsInput>,
    ) -> S3Result<S3Response<DeleteObjectsOutput>> {
        let Some(shelf) = self.locked.get(&req.input.bucket) else {
            return self.plain.delete_objects(req).await;
        };
        let mut deleted = Vec::new();
        for object in req.input.delete.objects {
            if object.version_id.is_some() {
                return Err(s3_error!(NotImplemented));
            }
            let marker = shelf.put(&object.key, None, self.now());
            deleted.push(DeletedObject {
                delete_marker: Some(true),
                delete_marker_version_id: Some(marker.map_err(|e| failed(&e))?.id),
                key: Some(object.key),
                version_id: None,
            });
        }
        Ok(S3Response::new(DeleteObjectsOutput {
            deleted: Some(deleted),
            ..DeleteObjectsOutput::default()
        }))
    }

    async fn list_objects_v2(
        &self,
        req: S3Request<ListObjectsV2Input>,
    ) -> S3Result<S3Response<ListObjectsV2Output>> {
        let Some(shelf) = self.locked.get(&req.input.bucket) else {
            return self.plain.list_objects_v2(req).await;
        };
        let input = req.input;
        let start = input.prefix.clone().unwrap_or_default();
        let after = input.continuation_token.or(input.start_after);
        let all = shelf.keys(&start).into_iter();
        let all = all.filter(|key| after.as_ref().is_none_or(|a| key > a));
        let mut found: Vec<Object> = all
            .filter_map(|key| {
                let newest = shelf.version(&key, None).filter(|v| !v.marker)?;
                Some(Object {
                    key: Some(key),
                    size: i64::try_from(newest.size).ok(),
                    e_tag: Some(tag(&newest)),
                    last_modified: Some(timestamp(newest.made())),
                    ..Object::default()
                })
            })
            .take(PAGE + 1)
            .collect();
        let more = found.len() > PAGE;
        found.truncate(PAGE);
        Ok(S3Response::new(ListObjectsV2Output {
            next_continuation_token: found.last().filter(|_| more).and_then(|o| o.key.clone()),
            is_truncated: Some(more),
            key_count: i32::try_from(found.len()).ok(),
            name: Some(input.bucket),
            prefix: Some(start),
            contents: Some(found),
            ..ListObjectsV2Output::default()
        }))
    }

    async fn list_object_versions(
        &self,
        req: S3Request<ListObjectVersionsInput>,
    ) -> S3Result<S3Response<ListObjectVersionsOutput>> {
        let Some(shelf) = self.locked.get(&req.input.bucket) else {
            return self.one_of_each(req).await;
        };
        let input = req.input;
        let start = input.prefix.clone().unwrap_or_default();
        let after = input.key_marker.map(|k| (k, input.version_id_marker));
        let is_after = |key: &String, id: &String| match &after {
            None => true,
            Some((k, Some(v))) if k == key => id < v,
            Some((k, _)) => key > k,
        };
        let all = shelf.keys(&start).into_iter();
        let all = all.flat_map(|key| {
            shelf
                .versions(&key)
                .into_iter()
                .map(move |v| (key.clone(), v))
        });
        let mut all: Vec<(String, Version)> = all
            .filter(|(key, v)| is_after(key, &v.id))
            .take(PAGE + 1)
            .collect();
        let more = all.len() > PAGE;
        all.truncate(PAGE);
        let last = all.last().filter(|_| more).cloned();
        let (markers, versions): (Vec<_>, Vec<_>) = all.into_iter().partition(|(_, v)| v.marker);
        let version = |(key, v): (String, Version)| ObjectVersion {
            key: Some(key),
            last_modified: Some(timestamp(v.made())),
            size: i64::try_from(v.size).ok(),
            version_id: Some(v.id),
            ..ObjectVersion::default()
        };
        let marker = |(key, v): (String, Version)| DeleteMarkerEntry {
            key: Some(key),
            last_modified: Some(timestamp(v.made())),
            version_id: Some(v.id),
            ..DeleteMarkerEntry::default()
        };
        Ok(S3Response::new(ListObjectVersionsOutput {
            is_truncated: Some(more),
            next_key_marker: last.as_ref().map(|(key, _)| key.clone()),
            next_version_id_marker: last.map(|(_, v)| v.id),
            versions: Some(versions.into_iter().map(version).collect()),
            delete_markers: Some(markers.into_iter().map(marker).collect()),
            ..ListObjectVersionsOutput::default()
        }))
    }

    async fn get_object_lock_configuration(
        &self,
        req: S3Request<GetObjectLockConfigurationInput>,
    ) -> S3Result<S3Response<GetObjectLockConfigurationOutput>> {
        if !self.locked.contains_key(&req.input.bucket) {
            return Err(s3_error!(ObjectLockConfigurationNotFoundError));
        }
        let enabled = ObjectLockConfiguration {
            object_lock_enabled: Some(ObjectLockEnabled::from_static(ObjectLockEnabled::ENABLED)),
            rule: None,
        };
        Ok(S3Response::new(GetObjectLockConfigurationOutput {
            object_lock_configuration: Some(enabled),
        }))
    }

    async fn put_object_retention(
        &self,
        req: S3Request<PutObjectRetentionInput>,
    ) -> S3Result<S3Response<PutObjectRetentionOutput>> {
        let Some(shelf) = self.locked.get(&req.input.bucket) else {
            return Err(s3_error!(InvalidRequest));
        };
        let version = Buckets::there(shelf, &req.input.key, req.input.version_id.as_deref())?;
        let until = req.input.retention.and_then(|r| r.retain_until_date);
        let until = until.map(millis).filter(|u| *u > self.now());
        let until = until.ok_or_else(|| s3_error!(InvalidArgument))?;
        if version.until().is_some_and(|had| had > until) {
            return Err(s3_error!(AccessDenied, "It is protected for longer."));
        }
        version.retain(until).map_err(|e| failed(&e))?;
        Ok(S3Response::new(PutObjectRetentionOutput::default()))
    }
}
