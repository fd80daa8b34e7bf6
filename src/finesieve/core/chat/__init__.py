"""Chat scripts, and the machine that runs them: pure, without input or output."""
