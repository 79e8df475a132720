"""The simulated camera: sensor physics, lamp and scene in, real DNG files out. A stand-in for the real one."""
