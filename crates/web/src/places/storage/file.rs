//! A file on a volume, sent as its volume has it: whole, or the part that is asked for (RFC 9110, section 14), so that what
//! was broken off goes on.

use crate::frame::{
    AtDesk, Problem, Signed,
    media::{Asked, Pipe, Wanted, wanted},
};
use rocket::{
    Request, Response, get,
    http::{ContentType, Header, Status},
    response::Responder,
    tokio::{
        self,
        io::{AsyncWriteExt, DuplexStream},
    },
};
use zastrugi_core::{ids::ImageId, permits::Act};
use zastrugi_engine::{Desk, Viewer};

/// So much is read from the host at once, and as much waits for whoever fetches it.
const PIECE: u64 = 1 << 20;

pub(crate) struct Fetched {
    pipe: Option<(Pipe, u64)>,
    wanted: Wanted,
    all: u64,
    name: String,
    /// SHA-256 of the whole, by which a part is told from that of another file.
    tag: String,
}

impl<'r> Responder<'r, 'static> for Fetched {
    fn respond_to(self, _: &'r Request<'_>) -> rocket::response::Result<'static> {
        let mut response = Response::build();
        response.header(ContentType::Binary);
        response.header(Header::new("ETag", format!("\"{}\"", self.tag)));
        let said = format!("attachment; filename=\"{}\"", self.name);
        response.header(Header::new("Content-Disposition", said));
        self.wanted.said(&mut response, self.all);
        if let Some((pipe, n)) = self.pipe {
            let n = usize::try_from(n).map_err(|_| Status::PayloadTooLarge)?;
            response.sized_body(n, pipe);
        }
        response.ok()
    }
}

#[get("/storage/images/<id>/file")]
pub(crate) async fn fetch(
    signed: Signed,
    desk: &AtDesk,
    range: Asked,
    id: u64,
) -> Result<Fetched, Problem> {
    if !signed.may(Act::Machines) {
        return Err(Problem::not_found("This file"));
    }
    let view = desk.look();
    let image = view.estate.images.get(&ImageId(id)).filter(|i| i.ready);
    let image = image.ok_or_else(|| Problem::not_found("This file"))?;
    let all = image.size.0;
    let wanted = wanted(range.0.as_deref(), all);
    let part = match wanted {
        Wanted::Whole => Some((0, all)),
        Wanted::Piece(from, n) => Some((from, n)),
        Wanted::Nothing => None,
    };
    let pipe = part.map(|(from, n)| {
        let (into, out) = tokio::io::duplex(usize::try_from(PIECE).unwrap_or(1 << 20));
        let by = (desk.inner().clone(), signed.viewer.clone());
        tokio::spawn(pass_on(by, ImageId(id), (from, n), into));
        (Pipe(out), n)
    });
    Ok(Fetched {
        pipe,
        wanted,
        all,
        // What a header can't hold is left out.
        name: image
            .name
            .chars()
            .filter(|c| c.is_ascii_graphic() && !matches!(c, '"' | '\\' | '/'))
            .collect(),
        tag: image.sha256.clone().unwrap_or_default(),
    })
}

/// Piece by piece, as fast as it is taken; where the host falls silent it ends early, and whoever fetches it sees that.
async fn pass_on(
    (desk, viewer): (Desk, Viewer),
    id: ImageId,
    (from, n): (u64, u64),
    mut into: DuplexStream,
) {
    let mut at = from;
    while at < from + n {
        let length = (from + n - at).min(PIECE);
        let Ok(bytes) = desk
            .read_file(&viewer, id, at, usize::try_from(length).unwrap_or(0))
            .await
        else {
            return;
        };
        if bytes.is_empty() || into.write_all(&bytes).await.is_err() {
            return;
        }
        at += bytes.len() as u64;
    }
}
