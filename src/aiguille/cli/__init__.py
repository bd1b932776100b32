"""The command line: reads options, calls the library, prints. Nothing is computed here."""
