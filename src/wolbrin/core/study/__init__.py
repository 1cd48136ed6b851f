"""What price does after a condition fires."""
