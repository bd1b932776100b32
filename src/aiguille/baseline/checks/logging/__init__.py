"""What is recorded."""
