"""Reading history from files of others: layout, guess, streams, rows, appending."""
