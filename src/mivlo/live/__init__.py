"""A listening session: transport, mixer, messages, meters. The protocol is in docs/live.md."""
