# `make start` runs the application, `make test` all tests, `make setup` only installs.
.PHONY: setup start test lint bench types screenshots
.DEFAULT_GOAL := start

setup:
	@scripts/setup.sh

start: setup
	@exec .venv/bin/mivlo start

test: setup
	@scripts/test.sh

lint: setup
	@scripts/lint.sh

bench: setup
	@.venv/bin/python -m bench

types: setup
	@.venv/bin/mivlo openapi > docs/openapi.json
	@cd ui && npm run --silent types

screenshots: setup
	@.venv/bin/python scripts/screenshots.py
