"""FastAPI: routers, schemas, errors, events. Thin: every route calls one use case."""
