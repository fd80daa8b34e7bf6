"""The rules and the computation, without I/O, frameworks or a clock."""
