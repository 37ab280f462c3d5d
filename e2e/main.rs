//! End to end: the service as its users start it, the client, the network, a real database.

mod access;
mod client;
mod console;
mod crash;
mod damage;
mod edi;
mod faults;
mod holding;
mod hooks;
mod incidents;
mod inputs;
mod leaks;
mod lists;
mod maps;
mod mending;
mod outlines;
mod processes;
mod queues;
mod refusing;
mod releases;
mod restart;
mod restore;
mod scene;
mod trays;
mod verbs;
