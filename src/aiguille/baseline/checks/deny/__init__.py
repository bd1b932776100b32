"""What is refused, and what only looks like a refusal."""
