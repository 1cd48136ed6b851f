"""The project folder: database, history files, dossiers."""
