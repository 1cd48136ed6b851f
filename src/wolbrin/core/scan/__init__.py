"""What price does after every row of the ingredients, beside luck."""
