"""Everything that must hold: the core on its own, and the installed program, real servers and a real browser."""
