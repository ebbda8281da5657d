"""All tables, as of version 1.0; later steps follow from here.

Steps 0001 to 0016 were of versions before the first release. Folders of theirs are refused.
"""

from alembic import op

revision = "0017"
down_revision = None

_TABLES = """
CREATE TABLE states (
    id TEXT NOT NULL, body TEXT NOT NULL, bypassed BOOLEAN NOT NULL, corrects BOOLEAN NOT NULL,
    PRIMARY KEY (id)
);
CREATE TABLE samples (
    id INTEGER NOT NULL, response BLOB NOT NULL, response_start_s FLOAT NOT NULL,
    recording BLOB NOT NULL, recording_name TEXT NOT NULL, sweep JSON NOT NULL, checksum TEXT NOT NULL,
    fine_db BLOB, fine_checksum TEXT, PRIMARY KEY (id)
);
CREATE TABLE jobs (
    id INTEGER NOT NULL, name TEXT NOT NULL, place TEXT NOT NULL, notes TEXT NOT NULL,
    units TEXT NOT NULL, created_at DATETIME NOT NULL, changed_at DATETIME NOT NULL, deleted_at DATETIME,
    seed INTEGER NOT NULL, rig JSON NOT NULL, round_id INTEGER, correction_position INTEGER,
    plan_position INTEGER, alignment_position INTEGER, processor_id TEXT REFERENCES states (id),
    simulated_id TEXT REFERENCES states (id), rows TEXT,
    follows_id INTEGER REFERENCES jobs (id) ON DELETE SET NULL, PRIMARY KEY (id)
);
CREATE TABLE rounds (
    id INTEGER NOT NULL, job_id INTEGER NOT NULL, name TEXT NOT NULL, created_at DATETIME NOT NULL,
    state_id TEXT REFERENCES states (id), edits INTEGER DEFAULT '0' NOT NULL, PRIMARY KEY (id),
    FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE
);
CREATE INDEX ix_rounds_job_id ON rounds (job_id);
CREATE TABLE takes (
    id INTEGER NOT NULL, round_id INTEGER NOT NULL, channel TEXT NOT NULL, spot_id INTEGER NOT NULL,
    attempt INTEGER NOT NULL, taken_at DATETIME NOT NULL, source TEXT NOT NULL,
    sample_rate_hz INTEGER NOT NULL, arrival_s FLOAT NOT NULL, arrival_known BOOLEAN NOT NULL,
    polarity TEXT NOT NULL, signal_to_noise_db FLOAT NOT NULL, peak_dbfs FLOAT NOT NULL,
    clipped_samples INTEGER NOT NULL, warnings JSON NOT NULL, level_db BLOB NOT NULL, places JSON,
    samples_id INTEGER REFERENCES samples (id), checksum TEXT, recorder TEXT,
    note TEXT DEFAULT '' NOT NULL, left_out TEXT DEFAULT '' NOT NULL, removed BOOLEAN DEFAULT 0 NOT NULL,
    preferred INTEGER DEFAULT '0' NOT NULL, signal TEXT, sounded JSON,
    repeats INTEGER DEFAULT '1' NOT NULL, repeats_db FLOAT, level_dbfs FLOAT, PRIMARY KEY (id),
    UNIQUE (round_id, channel, spot_id, attempt),
    FOREIGN KEY(round_id) REFERENCES rounds (id) ON DELETE CASCADE
);
CREATE INDEX ix_takes_round_id ON takes (round_id);
CREATE TABLE passes (
    id INTEGER NOT NULL, job_id INTEGER NOT NULL, kind TEXT NOT NULL, state TEXT NOT NULL,
    message TEXT NOT NULL, steps JSON NOT NULL, done_steps INTEGER NOT NULL, fraction FLOAT NOT NULL,
    seconds_per_step FLOAT NOT NULL, started_at DATETIME NOT NULL, result JSON NOT NULL,
    PRIMARY KEY (id), FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE
);
CREATE INDEX ix_passes_job_id ON passes (job_id);
CREATE UNIQUE INDEX one_running_pass ON passes (state) WHERE state = 'running';
CREATE TABLE correction_steps (
    id INTEGER NOT NULL, job_id INTEGER NOT NULL, position INTEGER NOT NULL, what TEXT NOT NULL,
    correction JSON NOT NULL, PRIMARY KEY (id), UNIQUE (job_id, position),
    FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE
);
CREATE INDEX ix_correction_steps_job_id ON correction_steps (job_id);
CREATE TABLE logbook (
    id INTEGER NOT NULL, job_id INTEGER NOT NULL, at DATETIME NOT NULL, text TEXT NOT NULL,
    PRIMARY KEY (id), FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE
);
CREATE INDEX ix_logbook_job_id ON logbook (job_id);
CREATE TABLE plan_steps (
    id INTEGER NOT NULL, job_id INTEGER NOT NULL, position INTEGER NOT NULL, what TEXT NOT NULL,
    "plan" JSON NOT NULL, PRIMARY KEY (id), UNIQUE (job_id, position),
    FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE
);
CREATE INDEX ix_plan_steps_job_id ON plan_steps (job_id);
CREATE TABLE microphones (
    id INTEGER NOT NULL, name TEXT NOT NULL, deleted_at DATETIME, data JSON NOT NULL, PRIMARY KEY (id)
);
CREATE TABLE processors (
    id INTEGER NOT NULL, name TEXT NOT NULL, deleted_at DATETIME, data JSON NOT NULL, PRIMARY KEY (id)
);
CREATE INDEX takes_of_samples ON takes (samples_id);
CREATE TABLE starts (
    id INTEGER NOT NULL, at DATETIME NOT NULL, PRIMARY KEY (id)
);
CREATE TABLE alignment_steps (
    id INTEGER NOT NULL, job_id INTEGER NOT NULL, position INTEGER NOT NULL, what TEXT NOT NULL,
    alignment JSON NOT NULL, PRIMARY KEY (id), UNIQUE (job_id, position),
    FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE
);
CREATE INDEX ix_alignment_steps_job_id ON alignment_steps (job_id);
CREATE TABLE taps (
    id TEXT NOT NULL, data BLOB NOT NULL, PRIMARY KEY (id)
);
CREATE TABLE state_taps (
    state_id TEXT NOT NULL, taps_id TEXT NOT NULL, PRIMARY KEY (state_id, taps_id),
    FOREIGN KEY(state_id) REFERENCES states (id) ON DELETE CASCADE,
    FOREIGN KEY(taps_id) REFERENCES taps (id)
);
CREATE INDEX ix_state_taps_taps_id ON state_taps (taps_id);
CREATE TABLE kept_states (
    id INTEGER NOT NULL, job_id INTEGER NOT NULL, at DATETIME NOT NULL, state_id TEXT NOT NULL,
    PRIMARY KEY (id), FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE,
    FOREIGN KEY(state_id) REFERENCES states (id)
);
CREATE INDEX ix_kept_states_job_id ON kept_states (job_id);
CREATE TABLE selections (
    id INTEGER NOT NULL, job_id INTEGER NOT NULL, name TEXT NOT NULL, address TEXT NOT NULL,
    PRIMARY KEY (id), UNIQUE (job_id, name), FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE
);
CREATE INDEX ix_selections_job_id ON selections (job_id);
CREATE TABLE alignment_versions (
    id INTEGER NOT NULL, job_id INTEGER NOT NULL, name TEXT NOT NULL, at DATETIME NOT NULL,
    alignment JSON NOT NULL, PRIMARY KEY (id), UNIQUE (job_id, name),
    FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE
);
CREATE INDEX ix_alignment_versions_job_id ON alignment_versions (job_id);
CREATE TABLE correction_versions (
    id INTEGER NOT NULL, job_id INTEGER NOT NULL, name TEXT NOT NULL, at DATETIME NOT NULL,
    correction JSON NOT NULL, PRIMARY KEY (id), UNIQUE (job_id, name),
    FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE
);
CREATE INDEX ix_correction_versions_job_id ON correction_versions (job_id);
CREATE TABLE targets (
    id INTEGER NOT NULL, name TEXT NOT NULL, deleted_at DATETIME, data JSON NOT NULL, PRIMARY KEY (id)
);
CREATE TABLE monitor_switches (
    id INTEGER NOT NULL, name TEXT NOT NULL, deleted_at DATETIME, data JSON NOT NULL, PRIMARY KEY (id)
);
CREATE TABLE tolerances (
    id INTEGER NOT NULL, name TEXT NOT NULL, deleted_at DATETIME, data JSON NOT NULL, PRIMARY KEY (id)
);
CREATE TABLE reports (
    job_id INTEGER NOT NULL, data JSON NOT NULL, PRIMARY KEY (job_id),
    FOREIGN KEY(job_id) REFERENCES jobs (id) ON DELETE CASCADE
);
"""


def upgrade() -> None:
    for statement in filter(None, map(str.strip, _TABLES.split(";"))):
        op.execute(statement)
