//! The engine against real devices on real sockets and a real database.

mod faults;
mod lab;
mod processes;
mod restart;
mod road;
