"""A lab on which a procedure can be rehearsed."""
