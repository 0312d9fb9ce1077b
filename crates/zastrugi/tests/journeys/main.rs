//! Whole processes and a real browser: killed at every boundary, and from bare hosts to a running machine.

mod agent_check;
mod browser;
mod killed;
mod road;
mod world;
