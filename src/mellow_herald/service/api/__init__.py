"""The engineer's API, a router a noun: parse, call, answer."""
