# `make start` runs the application, `make test` all tests, `make hard` the long ones, `make explore` draws properties anew, `make setup` only installs.
.PHONY: setup start test hard explore lint bench types screenshots
.DEFAULT_GOAL := start

setup:
	@scripts/setup.sh

start: setup
	@exec .venv/bin/mivlo start

test: setup
	@scripts/test.sh

hard: setup
	@.venv/bin/python -m pytest tests/hard -m "hard or not hard"

explore: setup
	@scripts/explore.sh

lint: setup
	@scripts/lint.sh

bench: setup
	@.venv/bin/python -m bench

types: setup
	@.venv/bin/mivlo openapi > docs/openapi.json
	@cd ui && npm run --silent types

screenshots: setup
	@.venv/bin/python scripts/screenshots.py
