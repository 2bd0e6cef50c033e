"""A seed bank in PostgreSQL, its endpoints made by prism-py from its tables, a view and a function:
server.py PORT DATABASE"""

from __future__ import annotations

import sys
from pathlib import Path

import uvicorn
from fastapi import FastAPI
from prism import ApiPrism
from prism.db.client import DbClient
from sqlalchemy import text

HERE = Path(__file__).parent
port, database = int(sys.argv[1]), sys.argv[2].replace("postgres://", "postgresql+psycopg2://")
client = DbClient(database)
with client.engine.begin() as connection:
    if not connection.execute(text("SELECT 1 FROM pg_tables WHERE tablename = 'species'")).all():
        for file in (HERE.parent / "mappers" / "bank.sql", HERE / "views.sql"):
            connection.exec_driver_sql(file.read_text("utf-8").replace("%", "%%"))
app = FastAPI(title="Seed bank")
api = ApiPrism(client, app, ["public"])
api.gen_table_routes()
api.gen_view_routes()
api.gen_fn_routes()
api.gen_metadata_routes()
api.gen_health_routes()
uvicorn.run(app, host="127.0.0.1", port=port, log_level="error")
