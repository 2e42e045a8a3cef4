"""The client library, by the asynchronous client."""
