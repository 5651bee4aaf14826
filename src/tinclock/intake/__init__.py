"""Reading what integrators write: rules files and levels."""
