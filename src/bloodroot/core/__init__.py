"""What a policy means: pure computation, the standard library alone, no input or output."""
