"""The service: engineer API, device API, events, conductor, intake and the console's files."""
