"""States are kept once, by hash; a rig has parts; what passes found has a shape for each kind; levels are also fine."""

import base64
import hashlib
import json

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"

_REHEARSAL_LIMITS = {"name": "Rehearsal processor", "bands": 16, "taps": 16_384, "presets": 3}
_REHEARSAL_CAN = {"readable": True, "loads": True, "mutes": True, "dims": True, "simulated": True}
_PARTS = {
    "interface": ("hardware", "card_name", "card_host", "loop_output", "loop_input", "loop"),
    "levels": (
        "sweep_level_dbfs",
        "microphone_gain_db",
        "full_scale_spl_db",
        "ceiling_dbfs",
        "ceiling_spl_db",
        "reference_db",
        "second_db",
        "plays_effects",
    ),
    "rehearsal": ("pace", "faults", "knobs_db"),
}


def upgrade() -> None:
    op.create_table(
        "states",
        sa.Column("id", sa.Text, primary_key=True),
        sa.Column("body", sa.Text, nullable=False),
        sa.Column("bypassed", sa.Boolean, nullable=False),
        sa.Column("corrects", sa.Boolean, nullable=False),
    )
    op.create_table(
        "taps", sa.Column("id", sa.Text, primary_key=True), sa.Column("data", sa.LargeBinary, nullable=False)
    )
    op.create_table(
        "state_taps",
        sa.Column("state_id", sa.Text, sa.ForeignKey("states.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("taps_id", sa.Text, sa.ForeignKey("taps.id"), primary_key=True, index=True),
    )
    for table, columns in (("jobs", ("processor_id", "simulated_id")), ("rounds", ("state_id",))):
        for column in columns:
            op.execute(f"ALTER TABLE {table} ADD COLUMN {column} TEXT REFERENCES states (id)")
    op.add_column("takes", sa.Column("recorder", sa.Text))
    op.add_column("samples", sa.Column("fine_db", sa.LargeBinary))
    op.add_column("samples", sa.Column("fine_checksum", sa.Text))
    connection = op.get_bind()
    run = connection.execute
    for row in run(sa.text("SELECT id, processor, rig FROM jobs")).mappings().all():
        state = _kept(connection, row["processor"])
        run(
            sa.text("UPDATE jobs SET processor_id = :state, simulated_id = :state, rig = :rig WHERE id = :id"),
            {"state": state, "rig": _rig(row["rig"]), "id": row["id"]},
        )
    for row in run(sa.text("SELECT id, state FROM rounds WHERE state IS NOT NULL")).mappings().all():
        run(
            sa.text("UPDATE rounds SET state_id = :state WHERE id = :id"),
            {"state": _kept(connection, row["state"]), "id": row["id"]},
        )
    old = run(sa.text("SELECT id, job_id, at, state FROM kept_states")).mappings().all()
    op.drop_table("kept_states")
    op.create_table(
        "kept_states",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("job_id", sa.Integer, sa.ForeignKey("jobs.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("state_id", sa.Text, sa.ForeignKey("states.id"), nullable=False),
    )
    for row in old:
        run(
            sa.text("INSERT INTO kept_states (id, job_id, at, state_id) VALUES (:id, :job, :at, :state)"),
            {"id": row["id"], "job": row["job_id"], "at": row["at"], "state": _kept(connection, row["state"])},
        )
    op.execute("ALTER TABLE jobs DROP COLUMN processor")
    op.execute("ALTER TABLE rounds DROP COLUMN state")
    for row in run(sa.text("SELECT id, kind, result FROM passes")).mappings().all():
        run(
            sa.text("UPDATE passes SET result = :result WHERE id = :id"),
            {"result": json.dumps(_result(row["kind"], json.loads(row["result"]))), "id": row["id"]},
        )


def _hash(data: bytes) -> str:
    return hashlib.blake2b(data, digest_size=16).hexdigest()


def _kept(connection: sa.Connection, text: str) -> str:
    """Keep a state under its hash; a text that can't be read is kept as it is, and stays damaged."""
    taps: dict[str, bytes] = {}
    try:
        state = json.loads(text)
        for preset in state["presets"].values():
            for settings in preset["channels"].values():
                held = settings.get("convolution")
                if held:
                    data = base64.b64decode(held["taps"])
                    settings["convolution"] = {"sample_rate_hz": held["sample_rate_hz"], "taps": _hash(data)}
                    taps[_hash(data)] = data
        playing = state["presets"].get(state["active"])
        bypassed = state["active"] == "bypass"
        corrects = bool(
            playing
            and playing.get("ours", True)
            and any(s["filters"] or s.get("convolution") for s in playing["channels"].values())
        )
        body = json.dumps(state, sort_keys=True)
    except (ValueError, TypeError, KeyError, AttributeError):
        body, bypassed, corrects = text, False, False
    state_id = _hash(body.encode())
    connection.execute(
        sa.text("INSERT OR IGNORE INTO states VALUES (:id, :body, :bypassed, :corrects)"),
        {"id": state_id, "body": body, "bypassed": bypassed, "corrects": corrects},
    )
    for taps_id, data in taps.items():
        connection.execute(sa.text("INSERT OR IGNORE INTO taps VALUES (:id, :data)"), {"id": taps_id, "data": data})
        connection.execute(
            sa.text("INSERT OR IGNORE INTO state_taps VALUES (:state, :taps)"), {"state": state_id, "taps": taps_id}
        )
    return state_id


def _rig(text: str) -> str:
    """A flat rig in its parts, with a chain of one processor."""
    try:
        old = json.loads(text)
        if not isinstance(old, dict):
            raise TypeError("no rig")
    except (ValueError, TypeError):
        return text
    limits, rehearsal = old.pop("limits", None), old.get("hardware", "rehearsal") == "rehearsal"
    rig = {part: {name: old.pop(name) for name in names if name in old} for part, names in _PARTS.items()}
    can = _REHEARSAL_CAN if rehearsal else {}
    return json.dumps(
        {**rig, **old, "chain": [{"can": can, "limits": limits or (_REHEARSAL_LIMITS if rehearsal else None)}]}
    )


def _result(kind: str, old: dict) -> dict | None:
    if kind == "level":
        return {
            "rests_on": old.pop("rests on", {}),
            "readings": {
                channel: dict(zip(("noise_dbfs", "signal_dbfs", "peak_dbfs"), values, strict=True))
                for channel, values in old.items()
            },
        }
    if kind == "lines":
        return {
            "lines": {
                channel: {
                    "reading": {
                        name: value for name, value in values.items() if name not in ("really", "heard", "reason")
                    },
                    "really": values["really"],
                    "heard": values["heard"],
                }
                for channel, values in old.items()
            }
        }
    if kind in ("noise", "live", "reference", "subs"):
        return old
    return None
