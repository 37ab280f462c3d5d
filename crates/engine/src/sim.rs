//! Simulation.
