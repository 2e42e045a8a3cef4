# Written by `make client` from ../asynchronous; change it there.
"""The client library, by the synchronous client."""
