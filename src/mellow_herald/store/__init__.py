"""Records in PostgreSQL and images on disk. Nothing here knows the API or the device protocol."""
