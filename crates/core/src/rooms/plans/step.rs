//! Nothing is told to any device.

use super::Event;

super::super::stepless::stepless!();
