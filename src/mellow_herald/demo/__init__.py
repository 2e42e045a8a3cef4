"""The scenario of Thistledown Apiaries, a made-up cooperative of beekeepers, and the command that plays it."""
