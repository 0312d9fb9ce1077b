//! Formats: bytes from and to values. CSV, small ISO 9660 images, the seed that a guest reads at first boot,
//! tables and estates for checking the computation from outside.
//! Nothing here knows the network or the database.

pub mod backup;
pub mod build;
pub mod certificate;
pub mod csv;
pub mod estate;
pub mod iso9660;
pub mod ovf;
pub mod plan;
pub mod pledge;
pub mod seed;
pub mod table;

#[cfg(test)]
mod fits;
#[cfg(test)]
mod hostile;
