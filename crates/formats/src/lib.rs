//! Formats: bytes from and to values. So far CSV out; nothing here knows the network or the database.

pub mod csv;
pub mod iso9660;
pub mod seed;
