//! Formats: bytes from and to values. So far CSV out; nothing here knows the network or the database.

pub mod csv;
