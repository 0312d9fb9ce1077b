//! What a host that is being installed reads over plain HTTP: whoever was told the word gets it, and nobody else. Controllers read
//! images in pieces, as the host asks for blocks: a range is answered with just that (RFC 9110, section 14).

use super::AtDesk;
use rocket::{
    Request, Response, get,
    http::{ContentType, Header, Status},
    request::{FromRequest, Outcome},
    response::Responder,
    tokio::{
        fs::File,
        io::{AsyncRead, AsyncSeek, AsyncSeekExt, DuplexStream, ReadBuf, SeekFrom},
    },
};
use std::{
    convert::Infallible,
    io,
    pin::Pin,
    task::{Context, Poll, ready},
};
use zastrugi_engine::{Part, Served};

/// Which bytes are asked for: the value of `Range`.
pub(crate) struct Asked(pub(crate) Option<String>);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Asked {
    type Error = Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Infallible> {
        let asked = request.headers().get_one("Range").map(str::to_owned);
        Outcome::Success(Asked(asked))
    }
}

/// The part of a whole that is asked for.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Wanted {
    Whole,
    /// From this byte on, so many.
    Piece(u64, u64),
    /// None of them is there.
    Nothing,
}

impl Wanted {
    /// Says which part of so many bytes an answer is; whether there is any.
    pub(crate) fn said(&self, response: &mut rocket::response::Builder<'_>, all: u64) -> bool {
        response.header(Header::new("Accept-Ranges", "bytes"));
        match self {
            Wanted::Whole => {}
            Wanted::Piece(from, n) => {
                let said = format!("bytes {from}-{}/{all}", from + n - 1);
                response.status(Status::PartialContent);
                response.header(Header::new("Content-Range", said));
            }
            Wanted::Nothing => {
                response.status(Status::RangeNotSatisfiable);
                response.header(Header::new("Content-Range", format!("bytes */{all}")));
            }
        }
        *self != Wanted::Nothing
    }
}

/// What one range means for so many bytes. Several ranges, and what is no range, ask for the whole: a server may ignore them.
pub(crate) fn wanted(range: Option<&str>, all: u64) -> Wanted {
    let Some(range) = range.and_then(|r| r.trim().strip_prefix("bytes=")) else {
        return Wanted::Whole;
    };
    let Some((first, last)) = range.split_once('-').filter(|_| !range.contains(',')) else {
        return Wanted::Whole;
    };
    let number = |text: &str| text.trim().parse::<u64>().ok();
    match (first.trim(), number(first), last.trim(), number(last)) {
        // The last so many.
        ("", _, _, Some(0)) => Wanted::Nothing,
        ("", _, _, Some(n)) => Wanted::Piece(all.saturating_sub(n), n.min(all)),
        (_, Some(first), _, _) if first >= all => Wanted::Nothing,
        (_, Some(first), "", _) => Wanted::Piece(first, all - first),
        (_, Some(first), _, Some(last)) if last >= first => {
            Wanted::Piece(first, last.min(all - 1) - first + 1)
        }
        _ => Wanted::Whole,
    }
}

/// A piece of a file, from where it stands.
struct Window {
    file: File,
    left: u64,
}

impl AsyncRead for Window {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        into: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let left = usize::try_from(self.left).unwrap_or(usize::MAX);
        let room = into.initialize_unfilled_to(left.min(into.remaining()));
        let mut part = ReadBuf::new(room);
        ready!(Pin::new(&mut self.file).poll_read(context, &mut part))?;
        let n = part.filled().len();
        self.left -= n as u64;
        into.advance(n);
        Poll::Ready(Ok(()))
    }
}

/// Its length is said beforehand, so nobody seeks in it.
impl AsyncSeek for Window {
    fn start_seek(self: Pin<&mut Self>, _: SeekFrom) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }
    fn poll_complete(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<u64>> {
        Poll::Ready(Err(io::ErrorKind::Unsupported.into()))
    }
}

enum Body {
    File(Window),
    Bytes(Vec<u8>),
}

pub(crate) struct Medium {
    body: Body,
    wanted: Wanted,
    all: u64,
}

impl<'r> Responder<'r, 'static> for Medium {
    fn respond_to(self, _: &'r Request<'_>) -> rocket::response::Result<'static> {
        let mut response = Response::build();
        response.header(ContentType::new("application", "vnd.efi.iso"));
        if !self.wanted.said(&mut response, self.all) {
            return response.ok();
        }
        match self.body {
            Body::Bytes(bytes) => response.sized_body(bytes.len(), io::Cursor::new(bytes)),
            Body::File(window) => {
                let n = usize::try_from(window.left).map_err(|_| Status::PayloadTooLarge)?;
                response.sized_body(n, window)
            }
        };
        response.ok()
    }
}

/// `image`: what it is installed from; `seed`: what it shall become.
#[get("/media/<word>/<part>")]
pub(crate) async fn read(desk: &AtDesk, word: &str, part: &str, asked: Asked) -> Option<Medium> {
    let part = match part {
        "image" => Part::Image,
        "seed" => Part::Seed,
        _ => return None,
    };
    match desk.medium(word, part).await? {
        Served::Bytes(bytes) => {
            let all = bytes.len() as u64;
            let wanted = wanted(asked.0.as_deref(), all);
            let bytes = match &wanted {
                Wanted::Piece(from, n) => {
                    let from = usize::try_from(*from).ok()?;
                    bytes[from..from + usize::try_from(*n).ok()?].to_vec()
                }
                Wanted::Whole | Wanted::Nothing => bytes,
            };
            let body = Body::Bytes(bytes);
            Some(Medium { body, wanted, all })
        }
        Served::File(path) => {
            let mut file = File::open(path).await.ok()?;
            let all = file.metadata().await.ok()?.len();
            let wanted = wanted(asked.0.as_deref(), all);
            let left = match wanted {
                Wanted::Piece(from, n) => {
                    file.seek(SeekFrom::Start(from)).await.ok()?;
                    n
                }
                Wanted::Whole | Wanted::Nothing => all,
            };
            let body = Body::File(Window { file, left });
            Some(Medium { body, wanted, all })
        }
    }
}

/// What a task reads on behind it; nobody seeks in it, as its length is said beforehand.
pub(crate) struct Pipe(pub(crate) DuplexStream);

impl AsyncRead for Pipe {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        into: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_read(context, into)
    }
}

impl AsyncSeek for Pipe {
    fn start_seek(self: Pin<&mut Self>, _: SeekFrom) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }
    fn poll_complete(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<u64>> {
        Poll::Ready(Err(io::ErrorKind::Unsupported.into()))
    }
}

#[cfg(test)]
mod tests {
    use super::{Wanted, wanted};

    /// If this fails, a controller reads other blocks of an image than it asked for, and the host starts from garbage.
    #[test]
    fn a_range_is_just_the_bytes_that_were_asked_for() {
        let all = 100;
        for (range, expected) in [
            (None, Wanted::Whole),
            (Some("bytes=0-0"), Wanted::Piece(0, 1)),
            (Some("bytes=10-19"), Wanted::Piece(10, 10)),
            (Some("bytes=90-"), Wanted::Piece(90, 10)),
            (Some("bytes=90-4000"), Wanted::Piece(90, 10)),
            (Some("bytes=-7"), Wanted::Piece(93, 7)),
            (Some("bytes=-4000"), Wanted::Piece(0, 100)),
            (Some("bytes=100-"), Wanted::Nothing),
            (Some("bytes=100-200"), Wanted::Nothing),
            (Some("bytes=-0"), Wanted::Nothing),
            // What is no range is none.
            (Some("bytes=9-3"), Wanted::Whole),
            (Some("bytes=0-1,5-6"), Wanted::Whole),
            (Some("bytes=a-b"), Wanted::Whole),
            (Some("blocks=0-1"), Wanted::Whole),
            (Some("bytes=99999999999999999999-"), Wanted::Whole),
        ] {
            assert_eq!(wanted(range, all), expected, "{range:?}");
        }
        assert_eq!(
            wanted(Some("bytes=0-"), 0),
            Wanted::Nothing,
            "there is nothing in it"
        );
    }
}
