"""The task queue: long work in worker processes, on the same PostgreSQL."""
