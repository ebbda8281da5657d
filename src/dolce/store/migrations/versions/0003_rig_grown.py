"""Microphones and processors kept for all jobs; a job's rig uses several microphones, each on its input."""

import json

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"

_OLD = ("microphone_name", "microphone_serial", "curve", "curve_file_name", "card_input")


def upgrade() -> None:
    microphones, _ = (
        op.create_table(
            table,
            sa.Column("id", sa.Integer, primary_key=True),
            sa.Column("name", sa.Text, nullable=False),
            sa.Column("deleted_at", sa.DateTime),
            sa.Column("data", sa.JSON, nullable=False),
        )
        for table in ("microphones", "processors")
    )
    op.create_table(
        "kept_states",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("job_id", sa.Integer, sa.ForeignKey("jobs.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("state", sa.JSON, nullable=False),
    )
    connection = op.get_bind()
    numbers: dict[tuple, int] = {}
    for row in connection.execute(sa.text("SELECT id, rig FROM jobs")).mappings().all():
        rig = json.loads(row["rig"])
        old = {key: rig.pop(key, None) for key in _OLD}
        rig["microphones"] = []
        # A curve was taken out whatever the pointing: it is the one for 0 degrees until somebody says otherwise.
        if old["microphone_name"] or old["curve"]:
            values = {
                "name": old["microphone_name"] or "Microphone",
                "serial": old["microphone_serial"] or "",
                "sensitivity_mv_pa": None,
                "curves": {"0": old["curve"]} if old["curve"] else {},
                "curve_files": {"0": old["curve_file_name"]} if old["curve"] else {},
            }
            key = (values["name"], values["serial"], old["curve_file_name"])
            if key not in numbers:
                added = connection.execute(microphones.insert().values(name=values["name"], data=values))
                numbers[key] = added.inserted_primary_key[0]
            rig["microphones"] = [
                {"microphone": {"id": numbers[key], **values}, "input": old["card_input"] or 1, "difference": None}
            ]
        # Sweeps that were allowed before stay allowed.
        rig["ceiling_dbfs"] = max(-6.0, float(rig.get("sweep_level_dbfs", -18.0)))
        connection.execute(
            sa.text("UPDATE jobs SET rig = :rig WHERE id = :id"), {"rig": json.dumps(rig), "id": row["id"]}
        )
