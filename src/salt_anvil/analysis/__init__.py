"""What the analysis leaves of a session, and the pictures and ledgers that are read from it."""
