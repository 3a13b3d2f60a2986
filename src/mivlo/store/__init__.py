"""PostgreSQL through SQLAlchemy: models, sessions, migrations. No other layer sees a model's SQL."""
