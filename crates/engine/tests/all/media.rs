//! What hosts are installed from, as the pages serve it: for labs, which have no pages.

use std::sync::{Arc, Mutex};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpStream},
    task::JoinHandle,
};
use zastrugi_engine::{Desk, Media, Part, Served};
use zastrugi_formats::iso9660;

/// Serves whoever has the desk now.
pub(crate) struct MediaServer {
    desk: Arc<Mutex<Option<Desk>>>,
    pub(crate) media: Media,
    task: JoinHandle<()>,
}

impl Drop for MediaServer {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// (file, maker)
const IMAGES: [(&str, Option<&str>); 3] = [
    ("any.iso", None),
    ("brattholm.iso", Some("Brattholm")),
    ("korsnes.iso", Some("Korsnes")),
];

impl MediaServer {
    pub(crate) async fn begin(dir: &std::path::Path, net: &str) -> MediaServer {
        let dir = dir.join("media");
        std::fs::create_dir_all(&dir).unwrap();
        for (file, maker) in IMAGES {
            let says = serde_json::json!({"version": "4.2.1", "maker": maker}).to_string();
            let image = iso9660::write("INSTALL", &[("IMAGE.JSN", says.as_bytes())]).unwrap();
            std::fs::write(dir.join(file), image).unwrap();
        }
        std::fs::write(dir.join("not-one.iso"), "nothing that is an image").unwrap();
        let listener = TcpListener::bind(format!("{net}.0.2:8470")).await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let desk: Arc<Mutex<Option<Desk>>> = Arc::default();
        let now = desk.clone();
        let task = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let desk = now.lock().unwrap().clone();
                tokio::spawn(answer(stream, desk));
            }
        });
        let media = Media {
            dir: Some(dir),
            url: Some(url),
        };
        MediaServer { desk, media, task }
    }
    pub(crate) fn is_at(&self, desk: &Desk) {
        *self.desk.lock().unwrap() = Some(desk.clone());
    }
}

async fn answer(mut stream: TcpStream, desk: Option<Desk>) {
    let mut head = Vec::new();
    while !head.ends_with(b"\r\n\r\n") {
        match stream.read_u8().await {
            Ok(byte) => head.push(byte),
            Err(_) => return,
        }
    }
    let head = String::from_utf8_lossy(&head).into_owned();
    let path = head.split(' ').nth(1).unwrap_or_default();
    let words: Vec<&str> = path.trim_start_matches('/').split('/').collect();
    let part = match words.as_slice() {
        ["media", word, "image"] => Some((*word, Part::Image)),
        ["media", word, "seed"] => Some((*word, Part::Seed)),
        _ => None,
    };
    let served = match (desk, part) {
        (Some(desk), Some((word, part))) => desk.medium(word, part).await,
        _ => None,
    };
    let body = match served {
        Some(Served::File(path)) => std::fs::read(path).unwrap(),
        Some(Served::Bytes(bytes)) => bytes,
        None => {
            let no = "HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\n\r\n";
            stream.write_all(no.as_bytes()).await.ok();
            return;
        }
    };
    let head = format!("HTTP/1.1 200 OK\r\ncontent-length: {}\r\n\r\n", body.len());
    stream.write_all(head.as_bytes()).await.ok();
    stream.write_all(&body).await.ok();
}
