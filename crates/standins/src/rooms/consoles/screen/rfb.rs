//! The server's side of the remote framebuffer protocol 3.8 (RFC 6143) on a stream that is secure already: security type
//! None; raw (0) or zlib (6) rectangles. Neither cursor nor picture encodings, so that a strict page can show it.

use super::{HEIGHT, WIDTH};
use flate2::{Compress, Compression, FlushCompress};
use std::{io, time::Duration};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};

/// How often the screen is looked at while somebody waits for it.
const TICK: Duration = Duration::from_millis(50);
/// The longest text from a client's clipboard, which is not used.
const LONGEST: usize = 64 << 10;

/// What a client told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Told {
    Key { symbol: u32, down: bool },
    Pointer { x: u16, y: u16, pressed: bool },
}

/// How pixels stand on the wire: the places of red, green and blue in a 32-bit word, and its byte order.
#[derive(Clone, Copy)]
struct Pixels {
    shifts: [u8; 3],
    big: bool,
}

/// What the client asked for and has seen.
struct Session {
    pixels: Pixels,
    zlib: Option<Compress>,
    /// Asked for an update: the whole picture, or what changed.
    asked: Option<bool>,
    seen: Option<Vec<u32>>,
}

/// Shows a screen until the client goes or `look` answers none. `look` is asked again and again: it answers the picture if
/// it changed since it was asked last. `told` is told of keys and the pointer.
pub(crate) async fn serve<S>(
    mut stream: S,
    name: &str,
    mut look: impl FnMut(bool) -> Option<Option<Vec<u32>>>,
    mut told: impl FnMut(Told),
) -> io::Result<()>
where
    S: AsyncRead + AsyncWrite + Unpin,
{
    hello(&mut stream, name).await?;
    let mut session = Session {
        pixels: Pixels {
            shifts: [16, 8, 0],
            big: false,
        },
        zlib: None,
        asked: None,
        seen: None,
    };
    let mut inbox = Vec::new();
    let mut now: Option<Vec<u32>> = None;
    loop {
        tokio::select! {
            got = stream.read_buf(&mut inbox) => if got? == 0 {
                return Ok(());
            },
            () = tokio::time::sleep(TICK) => {}
        }
        while let Some(message) = session.take(&mut inbox)? {
            told(message);
        }
        let Some(fresh) = look(now.is_none()) else {
            return Ok(());
        };
        if fresh.is_some() {
            now = fresh;
        }
        if let Some(picture) = &now
            && let Some(update) = session.update(picture)?
        {
            stream.write_all(&update).await?;
        }
    }
}

async fn hello<S: AsyncRead + AsyncWrite + Unpin>(stream: &mut S, name: &str) -> io::Result<()> {
    stream.write_all(b"RFB 003.008\n").await?;
    let mut version = [0; 12];
    stream.read_exact(&mut version).await?;
    // One security type: none.
    stream.write_all(&[1, 1]).await?;
    if stream.read_u8().await? != 1 {
        return Err(io::Error::other("another security type"));
    }
    stream.write_all(&[0; 4]).await?;
    let _shared = stream.read_u8().await?;
    let mut init = Vec::new();
    init.extend(WIDTH.to_be_bytes());
    init.extend(HEIGHT.to_be_bytes());
    // 32 bits, depth 24, little-endian, true colour, 255 each, red at 16, green at 8, blue at 0.
    init.extend([32, 24, 0, 1, 0, 255, 0, 255, 0, 255, 16, 8, 0, 0, 0, 0]);
    init.extend(u32::try_from(name.len()).unwrap_or(0).to_be_bytes());
    init.extend(name.as_bytes());
    stream.write_all(&init).await
}

fn short(bytes: &[u8], at: usize) -> u16 {
    u16::from_be_bytes([bytes[at], bytes[at + 1]])
}
fn long(bytes: &[u8], at: usize) -> u32 {
    u32::from_be_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]])
}

impl Session {
    /// The next key or pointer message of what came; others are taken in on the way.
    fn take(&mut self, inbox: &mut Vec<u8>) -> io::Result<Option<Told>> {
        loop {
            let Some(kind) = inbox.first() else {
                return Ok(None);
            };
            let length = match (kind, inbox.len()) {
                (0, _) => 20,
                (2, 4..) => 4 + 4 * usize::from(short(inbox, 2)),
                (6, 8..) => {
                    8 + usize::try_from(long(inbox, 4))
                        .unwrap_or(usize::MAX)
                        .min(LONGEST + 1)
                }
                (2 | 6, _) => return Ok(None),
                (3, _) => 10,
                (4, _) => 8,
                (5, _) => 6,
                _ => return Err(io::Error::other("an unknown message")),
            };
            if length > LONGEST {
                return Err(io::Error::other("a message that is too long"));
            }
            if inbox.len() < length {
                return Ok(None);
            }
            let message: Vec<u8> = inbox.drain(..length).collect();
            match message[0] {
                0 => {
                    if message[4] != 32 {
                        return Err(io::Error::other("only 32 bits a pixel"));
                    }
                    let shifts = [message[14], message[15], message[16]];
                    if shifts.iter().any(|s| *s > 24) {
                        return Err(io::Error::other("colours outside their word"));
                    }
                    self.pixels = Pixels {
                        shifts,
                        big: message[6] != 0,
                    };
                }
                2 => {
                    let zlib = message[4..].chunks_exact(4).any(|e| e == [0, 0, 0, 6]);
                    if zlib && self.zlib.is_none() {
                        self.zlib = Some(Compress::new(Compression::fast(), true));
                    }
                }
                3 => {
                    let whole = message[1] == 0 || self.asked == Some(true);
                    self.asked = Some(whole);
                }
                4 => {
                    return Ok(Some(Told::Key {
                        symbol: long(&message, 4),
                        down: message[1] != 0,
                    }));
                }
                5 => {
                    let (x, y) = (short(&message, 2), short(&message, 4));
                    return Ok(Some(Told::Pointer {
                        x,
                        y,
                        pressed: message[1] & 1 != 0,
                    }));
                }
                _ => {}
            }
        }
    }

    /// A FramebufferUpdate, if one was asked for and there is something to tell.
    fn update(&mut self, picture: &[u32]) -> io::Result<Option<Vec<u8>>> {
        let Some(whole) = self.asked else {
            return Ok(None);
        };
        let all = (0, 0, usize::from(WIDTH), usize::from(HEIGHT));
        let part = match &self.seen {
            Some(seen) if !whole => changed(seen, picture),
            _ => Some(all),
        };
        let Some((x, y, width, height)) = part else {
            return Ok(None);
        };
        let mut raw = Vec::with_capacity(width * height * 4);
        for row in y..y + height {
            let from = row * usize::from(WIDTH) + x;
            for pixel in &picture[from..from + width] {
                raw.extend(self.pixels.word(*pixel));
            }
        }
        let mut out = vec![0, 0, 0, 1];
        for side in [x, y, width, height] {
            out.extend(u16::try_from(side).unwrap_or(0).to_be_bytes());
        }
        match &mut self.zlib {
            None => {
                out.extend(0u32.to_be_bytes());
                out.extend(raw);
            }
            Some(zlib) => {
                let packed = deflate(zlib, &raw)?;
                out.extend(6u32.to_be_bytes());
                out.extend(u32::try_from(packed.len()).unwrap_or(0).to_be_bytes());
                out.extend(packed);
            }
        }
        self.asked = None;
        self.seen = Some(picture.to_vec());
        Ok(Some(out))
    }
}

impl Pixels {
    fn word(self, pixel: u32) -> [u8; 4] {
        let [_, red, green, blue] = pixel.to_be_bytes();
        let word = (u32::from(red) << self.shifts[0])
            | (u32::from(green) << self.shifts[1])
            | (u32::from(blue) << self.shifts[2]);
        if self.big {
            word.to_be_bytes()
        } else {
            word.to_le_bytes()
        }
    }
}

/// One stream for the whole connection, flushed after each rectangle (RFC 6143, section 7.7.6 says the same of ZRLE).
fn deflate(zlib: &mut Compress, raw: &[u8]) -> io::Result<Vec<u8>> {
    let mut packed = Vec::with_capacity(raw.len() / 8 + 1024);
    let mut at = 0;
    loop {
        let before = zlib.total_in();
        packed.reserve(4096);
        zlib.compress_vec(&raw[at..], &mut packed, FlushCompress::Sync)
            .map_err(io::Error::other)?;
        at += usize::try_from(zlib.total_in() - before).unwrap_or(0);
        if at == raw.len() && packed.len() < packed.capacity() {
            return Ok(packed);
        }
    }
}

/// The smallest rectangle around all that differs: x, y, width, height.
fn changed(seen: &[u32], now: &[u32]) -> Option<(usize, usize, usize, usize)> {
    let width = usize::from(WIDTH);
    let rows: Vec<usize> = (0..usize::from(HEIGHT))
        .filter(|r| seen[r * width..(r + 1) * width] != now[r * width..(r + 1) * width])
        .collect();
    let (top, bottom) = (*rows.first()?, *rows.last()?);
    let differs = |column: &usize| {
        rows.iter()
            .any(|r| seen[r * width + column] != now[r * width + column])
    };
    let left = (0..width).find(differs)?;
    let right = (0..width).rev().find(differs)?;
    Some((left, top, right - left + 1, bottom - top + 1))
}

#[cfg(test)]
mod tests {
    use super::*;
    use flate2::{Decompress, FlushDecompress};
    use std::sync::{Arc, Mutex};
    use tokio::io::DuplexStream;

    const PIXELS: usize = WIDTH as usize * HEIGHT as usize;

    async fn connect(picture: Arc<Mutex<Vec<u32>>>) -> (DuplexStream, Arc<Mutex<Vec<Told>>>) {
        let (ours, mut theirs) = tokio::io::duplex(1 << 20);
        let heard: Arc<Mutex<Vec<Told>>> = Arc::default();
        let tell = heard.clone();
        tokio::spawn(async move {
            let look = move |_| Some(Some(picture.lock().unwrap().clone()));
            serve(ours, "db", look, move |t| tell.lock().unwrap().push(t)).await
        });
        let mut version = [0; 12];
        theirs.read_exact(&mut version).await.unwrap();
        assert_eq!(&version, b"RFB 003.008\n");
        theirs.write_all(b"RFB 003.008\n").await.unwrap();
        let mut security = [0; 2];
        theirs.read_exact(&mut security).await.unwrap();
        theirs.write_all(&[1]).await.unwrap();
        assert_eq!(theirs.read_u32().await.unwrap(), 0);
        theirs.write_all(&[1]).await.unwrap();
        let mut init = [0; 26];
        theirs.read_exact(&mut init).await.unwrap();
        assert_eq!(&init[24..], b"db");
        (theirs, heard)
    }

    async fn rectangle(s: &mut DuplexStream) -> ([u16; 4], u32, Vec<u8>) {
        assert_eq!(s.read_u32().await.unwrap(), 1, "one rectangle");
        let mut at = [0; 4];
        for side in &mut at {
            *side = s.read_u16().await.unwrap();
        }
        let encoding = s.read_u32().await.unwrap();
        let length = match encoding {
            0 => usize::from(at[2]) * usize::from(at[3]) * 4,
            _ => s.read_u32().await.unwrap() as usize,
        };
        let mut bytes = vec![0; length];
        s.read_exact(&mut bytes).await.unwrap();
        (at, encoding, bytes)
    }

    fn ask(whole: bool) -> [u8; 10] {
        let [a, b] = WIDTH.to_be_bytes();
        let [c, d] = HEIGHT.to_be_bytes();
        [3, u8::from(!whole), 0, 0, 0, 0, a, b, c, d]
    }

    #[tokio::test]
    async fn only_what_changed_is_sent_and_every_zlib_rectangle_continues_one_stream() {
        let picture = Arc::new(Mutex::new(vec![0x0010_2030; PIXELS]));
        let (mut s, _) = connect(picture.clone()).await;
        s.write_all(&[2, 0, 0, 1, 0, 0, 0, 6]).await.unwrap();
        s.write_all(&ask(true)).await.unwrap();
        let mut inflate = Decompress::new(true);
        let mut unpack = |bytes: &[u8], want: usize| {
            let mut out = Vec::with_capacity(want + 64);
            inflate
                .decompress_vec(bytes, &mut out, FlushDecompress::Sync)
                .unwrap();
            out
        };
        let (at, encoding, bytes) = rectangle(&mut s).await;
        assert_eq!((at, encoding), ([0, 0, WIDTH, HEIGHT], 6));
        let raw = unpack(&bytes, PIXELS * 4);
        assert_eq!(raw.len(), PIXELS * 4);
        assert_eq!(raw[..4], [0x30, 0x20, 0x10, 0]);
        s.write_all(&ask(false)).await.unwrap();
        {
            let mut now = picture.lock().unwrap();
            now[usize::from(WIDTH) * 7 + 5] = 0x00ff_0000;
            now[usize::from(WIDTH) * 9 + 11] = 0x0000_ff00;
        }
        let (at, _, bytes) = rectangle(&mut s).await;
        assert_eq!(at, [5, 7, 7, 3], "around both changed pixels");
        let raw = unpack(&bytes, 7 * 3 * 4);
        assert_eq!((raw.len(), &raw[..4]), (84, &[0, 0, 0xff, 0][..]));
    }

    #[tokio::test]
    async fn the_pixels_stand_as_the_client_wishes_and_keys_arrive_in_pieces() {
        let (mut s, heard) = connect(Arc::new(Mutex::new(vec![0x0010_2030; PIXELS]))).await;
        // Red at 0, green at 8, blue at 16: what browsers ask for.
        s.write_all(&[
            0, 0, 0, 0, 32, 24, 0, 1, 0, 255, 0, 255, 0, 255, 0, 8, 16, 0, 0, 0,
        ])
        .await
        .unwrap();
        s.write_all(&ask(true)).await.unwrap();
        let (_, encoding, bytes) = rectangle(&mut s).await;
        assert_eq!((encoding, &bytes[..4]), (0, &[0x10, 0x20, 0x30, 0][..]));
        let keys = [4, 1, 0, 0, 0, 0, 0, 0x61, 5, 1, 0, 3, 0, 4];
        for byte in keys {
            s.write_all(&[byte]).await.unwrap();
        }
        // A clipboard in between is passed over.
        s.write_all(&[6, 0, 0, 0, 0, 0, 0, 2, b'h', b'i'])
            .await
            .unwrap();
        s.write_all(&ask(true)).await.unwrap();
        rectangle(&mut s).await;
        let told = heard.lock().unwrap().clone();
        assert_eq!(
            told,
            [
                Told::Key {
                    symbol: 0x61,
                    down: true
                },
                Told::Pointer {
                    x: 3,
                    y: 4,
                    pressed: true
                }
            ]
        );
    }

    #[tokio::test]
    async fn a_client_that_lies_about_lengths_is_left() {
        let (mut s, _) = connect(Arc::new(Mutex::new(vec![0; PIXELS]))).await;
        s.write_all(&[6, 0, 0, 0, 0xff, 0xff, 0xff, 0xff])
            .await
            .unwrap();
        assert_eq!(s.read(&mut [0; 8]).await.unwrap(), 0, "the connection ends");
    }
}
