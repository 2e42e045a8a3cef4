"""Whatever comes in, an answer of ours goes out: the API from its own description, and bytes of any kind."""
