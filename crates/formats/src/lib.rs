//! Formats: bytes from and to values. CSV, small ISO 9660 images, the seed that a guest reads at first boot.
//! Nothing here knows the network or the database.

pub mod csv;
pub mod iso9660;
pub mod seed;
