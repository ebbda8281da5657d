"""Backups: the same to the bit on another machine, beside what is there; damaged and foreign ones change nothing."""

import hashlib
import io
import json
import sqlite3
from contextlib import closing

import pytest

from asking import client_of, post
from dolce.errors import Conflict, FormatError, InvalidValue, NotFound
from dolce.services.jobs import backups as backups_module
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
from dolce.store import encoding, read_manifest
from rooms import taken_room, two_seats_taken


@pytest.fixture(scope="module")
def filled(prepared):
    """A job with takes, a second round, a correction in a preset, a kept one, and a kept selection."""
    services, job_id = open_services(taken_room(prepared, layout="2.0", subs=0)), 1
    services.jobs.copy(job_id)  # numbers of the second differ from those of the first
    services.finding.find(job_id)
    services.loading.load(job_id, "A", "convolved")
    services.loading.switch(job_id, "A")
    first = services.jobs.get(job_id).round_id
    round_id = services.rounds.new(job_id, name="After").id
    services.taking.run_spot(job_id, services.jobs.get(job_id).spots[0].id)
    services.sound.wait()
    services.versions.keep(job_id, "mine", "why")
    services.reading.keep_selection(job_id, name="both", address=f"round={round_id}&vs_round={first}&vs_place=")
    yield services, job_id
    services.close()


@pytest.fixture
def written(filled):
    """A fresh backup of the job; its path."""
    services, job_id = filled
    services.backups.begin_backup([job_id])
    services.folder_work.wait()
    assert services.folder_work.present.fault == ""
    return services.backups.folder / services.backups.files()[0].name


def test_a_backup_that_is_deleted_while_the_list_is_made_is_left_out(written, filled):
    services, _ = filled
    gone = written.with_name("gone.dolce-backup")
    gone.symlink_to(written.with_name("nowhere"))  # listed, and not there when it is opened
    try:
        assert written.name in [file.name for file in services.backups.files()]
        assert gone.name not in [file.name for file in services.backups.files()]
    finally:
        gone.unlink()


@pytest.fixture
def elsewhere(prepared):
    """Another machine with two jobs of its own, so that numbers there are taken."""

    def two(services):
        for _ in range(2):
            two_seats_taken(services, layout="2.0", subs=0)

    services = open_services(prepared("two pairs", two))
    yield services
    services.close()


def put_back(services, path):
    with path.open("rb") as file:
        name = services.backups.add(file, path.name)
    services.backups.begin_restore(name)
    services.folder_work.wait()
    return services.folder_work.present


def everything(services, job_id):
    """All that a job is, without the numbers under which it is kept."""
    with services.context.look() as work:
        job = work.jobs.get(job_id)
        rounds = work.takes.rounds(job_id)
        place = {r.id: k for k, r in enumerate(rounds)}
        takes = [
            (
                place[t.round_id],
                t.channel,
                t.spot_id,
                t.attempt,
                t.level_db.tobytes(),
                t.quality,
                t.cautions,
                t.places if hasattr(t, "places") else None,
                work.takes.recording(t.id),
                work.takes.response(t.id).sample.tobytes(),
                work.takes.played(t.id),
            )
            for t in work.takes.of_job(job_id)
        ]
        alignment, correction = work.alignments.current(job_id), work.corrections.current(job_id)
        kept = [(v.at, v.correction.name, v.correction.bands) for v in work.correction_versions.all(job_id)]
        log = [
            (entry.at, entry.text) for entry in work.logbook.all(job_id) if not entry.text.startswith("Restored from")
        ]
        undo = work.corrections.neighbours(job_id)
        return {
            "plan": job.plan,
            "rig": encoding.values_of(job.rig),
            "processor": job.processor,
            "simulated": job.simulated,
            "seed": job.seed,
            "present": place[job.round_id],
            "rounds": [(r.name, r.state) for r in rounds],
            "takes": takes,
            "alignment": (place[alignment.round_id], alignment.channels, alignment.seat_weighting),
            "correction": (
                place[correction.round_id],
                place[correction.alignment.round_id],
                correction.bands,
                correction.trims_db,
            ),
            "kept": kept,
            "log": log,
            "undo": undo,
            "states": [state for _, _, state in work.kept_states.all(job_id)],
            "selections": [
                (
                    name,
                    [
                        (key, place[int(value)] if key.endswith("round") else value)
                        for key, value in (pair.split("=") for pair in address.split("&"))
                    ],
                )
                for _, name, address in work.selections.all(job_id)
            ],
        }


def test_a_job_put_back_elsewhere_is_the_same_to_the_bit(filled, written, elsewhere):
    services, job_id = filled
    assert put_back(elsewhere, written).fault == ""
    new = max(job.id for job in elsewhere.jobs.all())
    assert new != job_id
    assert everything(elsewhere, new) == everything(services, job_id)
    assert elsewhere.jobs.get(new).name == services.jobs.get(job_id).name + ", put back"  # one of that name is there
    # It goes on working: what is predicted and proven is what it was.
    here, there = services.shaping.view(job_id, "L").shape, elsewhere.shaping.view(new, "L").shape
    assert here.predicted_db.tobytes() == there.predicted_db.tobytes()
    assert elsewhere.context.database.faults() == []
    again = put_back(elsewhere, written)
    assert again.message.endswith(f"put back from {again.what}.")
    assert sorted(job.name for job in elsewhere.jobs.all())[-2:] == ["Two seats, put back", "Two seats, put back 2"]


def test_what_it_says_of_itself_is_what_is_inside(filled, written):
    services, job_id = filled
    manifest = read_manifest(written)
    assert manifest.jobs == (services.jobs.get(job_id).name,)
    with services.context.look() as work:
        assert manifest.takes == sum(1 for _ in work.takes.of_job(job_id))
    with closing(sqlite3.connect(f"{written.as_uri()}?mode=ro&immutable=1", uri=True)) as link:
        assert link.execute("SELECT count(*) FROM jobs").fetchone() == (1,)  # nothing of other jobs
    assert written.stat().st_mode & 0o077 == 0


def changed(data, kind):
    middle = len(data) // 2
    simply = {
        "a bit": data[:middle] + bytes([data[middle] ^ 1]) + data[middle + 1 :],
        "cut off": data[:-100],
        "cut short": data[:middle],
        "a byte more": data + b"x",
        "empty": b"",
        "another file": b"RIFF" + data[4:9000],
    }
    if kind in simply:
        return simply[kind]
    start = data.rindex(b'{"jobs"')
    values = json.loads(data[start:-16])
    values["revision"] = "9999"
    text = json.dumps(values).encode()
    return data[:start] + text + len(text).to_bytes(8, "big") + b"DOLCEBAK"


@pytest.mark.parametrize(
    ("kind", "message"),
    [
        ("a bit", "no longer those that were written"),
        ("cut off", "no backup of Dolce"),
        ("cut short", "no backup of Dolce"),
        ("a byte more", "no backup of Dolce"),
        ("empty", "no backup of Dolce"),
        ("another file", "no backup of Dolce"),
        ("newer", "newer version of Dolce"),
    ],
)
def test_a_damaged_or_foreign_file_is_refused_with_the_reason_and_changes_nothing(
    filled, written, elsewhere, kind, message
):
    before = [(job.id, job.name) for job in elsewhere.jobs.all()]
    data = io.BytesIO(changed(written.read_bytes(), kind))
    if kind == "a bit":  # its trailer is whole: only its contents tell
        elsewhere.backups.begin_restore(elsewhere.backups.add(data, "x.dolce-backup"))
        elsewhere.folder_work.wait()
        assert message in elsewhere.folder_work.present.fault
    else:
        with pytest.raises(FormatError, match=message):
            elsewhere.backups.add(data, "x.dolce-backup")
        assert elsewhere.backups.files() == []
    assert [(job.id, job.name) for job in elsewhere.jobs.all()] == before
    with closing(sqlite3.connect(elsewhere.folder / "dolce.sqlite")) as link:
        assert link.execute("SELECT count(*) FROM samples").fetchone() == (8 * 2,)


@pytest.mark.parametrize("kind", ["backup", "restore"])
def test_what_is_stopped_leaves_nothing_behind(filled, written, elsewhere, monkeypatch, kind):
    services, job_id = filled
    name = "write_backup" if kind == "backup" else "restore_backup"
    whole = getattr(backups_module, name)

    def stopped_half_way(*given, on_progress, **more):
        def tell(fraction):
            if fraction > 0.35:
                active.present.stop.set()
            on_progress(fraction)

        return whole(*given, on_progress=tell, **more)

    monkeypatch.setattr(backups_module, name, stopped_half_way)
    active = (services if kind == "backup" else elsewhere).folder_work
    files, jobs = {file.name for file in services.backups.files()}, len(elsewhere.jobs.all())
    if kind == "backup":
        services.backups.begin_backup([job_id])
        active.wait()
        assert {path.name for path in services.backups.folder.iterdir()} == files
    else:
        put_back(elsewhere, written)
        assert len(elsewhere.jobs.all()) == jobs
    assert active.present.message.startswith("Stopped")


def test_a_full_disk_while_writing_is_told_and_leaves_no_half_file(filled, monkeypatch):
    services, job_id = filled
    before = {file.name for file in services.backups.files()}

    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("dolce.store.backup._sealed", full)
    services.backups.begin_backup([job_id])
    services.folder_work.wait()
    assert "No space left" in services.folder_work.present.fault
    assert "as it was" in services.folder_work.present.message
    assert {path.name for path in services.backups.folder.iterdir()} == before


def test_a_start_takes_away_what_a_killed_one_left_and_nothing_of_the_persons_own(tmp_path):
    opened = open_services(tmp_path)
    folder = opened.backups.folder
    opened.close()
    folder.mkdir()
    left = ["a.dolce-backup.part", "a.dolce-backup.part-journal", "b.dolce-backup.old", "b.dolce-backup.old-wal"]
    own = ["studio.old.dolce-backup", "second.part.dolce-backup", "notes.old", "readme.part"]
    for name in (*left, *own):
        (folder / name).write_bytes(b"x")
    open_services(tmp_path).close()
    assert sorted(path.name for path in folder.iterdir()) == sorted(own)


def test_pages_keep_fetch_put_back_and_delete(filled, elsewhere):
    services, _ = filled
    empty = services.jobs.create(JobDetails(name="Without takes"))
    client = client_of(services)
    post(client, "/backups", job=str(empty.id))
    services.folder_work.wait()
    name = services.backups.files()[0].name
    page = client.get("/").text
    assert f"Restore {name}" in page
    with client.get(f"/backups/{name}") as answer:
        data = answer.data
    assert data == (services.backups.folder / name).read_bytes()
    there = client_of(elsewhere)
    assert post(there, "/backups/add", htmx=False, backup=(io.BytesIO(data), name)).status_code == 303
    elsewhere.folder_work.wait()
    assert "Without takes" in there.get("/").text
    answer = post(there, "/backups/add", htmx=False, backup=(io.BytesIO(b"nothing"), "x.dolce-backup"))
    assert answer.status_code == 422
    assert "no backup of Dolce" in answer.text
    for wrong in ("..%2Fdolce.sqlite", "dolce.sqlite", "none.dolce-backup"):
        assert client.get(f"/backups/{wrong}").status_code == 404
    post(client, f"/backups/{name}/delete")
    assert name not in [file.name for file in services.backups.files()]
    for wrong in ("../dolce.sqlite", "dolce.sqlite"):
        with pytest.raises(NotFound):
            services.backups.delete(wrong)


def test_one_at_a_time_and_not_of_nothing(filled, monkeypatch):
    services, job_id = filled
    with pytest.raises(InvalidValue, match="no job to keep"):
        services.backups.begin_backup([999])
    begun = []

    def held(*_, on_progress, **__):
        begun.append(True)
        services.folder_work.present.stop.wait(10)
        on_progress(0.5)

    monkeypatch.setattr(backups_module, "write_backup", held)
    services.backups.begin_backup([job_id])
    with pytest.raises(Conflict, match="is being written"):
        services.backups.begin_backup([job_id])
    services.folder_work.stop()
    assert services.folder_work.present.message.startswith("Stopped")


def test_a_backup_of_before_with_one_digest_of_the_whole_is_put_back_too(written, elsewhere):
    whole = written.read_bytes()
    length = int.from_bytes(whole[-16:-8], "big")
    database, trailer = whole[: -16 - length], json.loads(whole[-16 - length : -16])
    assert trailer.pop("pieces") is True
    older = written.with_name("older.dolce-backup")

    def sealed(digest: str) -> None:
        text = json.dumps({**trailer, "digest": digest}).encode()
        older.write_bytes(database + text + len(text).to_bytes(8, "big") + whole[-8:])

    sealed(trailer["digest"])  # that of the pieces is not that of the whole
    put_back(elsewhere, older)
    assert "no longer those that were written" in elsewhere.folder_work.present.fault
    sealed(hashlib.blake2b(database, digest_size=32).hexdigest())
    before = len(elsewhere.jobs.all())
    put_back(elsewhere, older)
    assert elsewhere.folder_work.present.fault == ""
    assert len(elsewhere.jobs.all()) == before + 1


def resealed(path, statements, name="strange.dolce-backup"):
    """The same backup after somebody's statements, with a trailer that fits: only what it holds can tell."""
    whole = path.read_bytes()
    length = int.from_bytes(whole[-16:-8], "big")
    made = path.with_name(name)
    made.write_bytes(whole[: -16 - length])
    with closing(sqlite3.connect(made, isolation_level=None)) as link:
        link.execute("PRAGMA foreign_keys=OFF")
        for statement in statements:
            link.execute(statement)
        link.execute("PRAGMA journal_mode=DELETE")
    database = made.read_bytes()
    manifest = {**json.loads(whole[-16 - length : -16]), "pieces": False}
    manifest["digest"] = hashlib.blake2b(database, digest_size=32).hexdigest()
    text = json.dumps(manifest).encode()
    made.write_bytes(database + text + len(text).to_bytes(8, "big") + whole[-8:])
    return made


ENDLESS = "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) SELECT x AS id FROM n"
STRANGE = {
    "a date that is none": ["UPDATE jobs SET changed_at = 'yesterday'"],
    "a date of a take that is none": ["UPDATE takes SET taken_at = 'soon'"],
    "a take of another's round": ["UPDATE takes SET round_id = -1 WHERE id = (SELECT max(id) FROM takes)"],
    "a round of no job": ["UPDATE rounds SET job_id = -1"],
    "a present round that is none": ["UPDATE jobs SET round_id = 99"],
    "samples of another's take": ["UPDATE takes SET samples_id = -3"],
    "a state that is not there": ["UPDATE kept_states SET state_id = 'x'", "UPDATE jobs SET processor_id = 'x'"],
    "a state under another's hash": ["UPDATE states SET body = replace(body, 'true', 'false')"],
    "a state that is called what it is not": ["UPDATE states SET corrects = 1 - corrects"],
    "taps under another's hash": ["UPDATE taps SET data = zeroblob(length(data))"],
    "a view that never ends": ["DROP TABLE logbook", f"CREATE VIEW logbook AS {ENDLESS}"],
    "a trigger": ["CREATE TRIGGER t AFTER INSERT ON jobs BEGIN DELETE FROM jobs; END"],
    "a column that is computed": ["ALTER TABLE logbook ADD COLUMN more AS (length(text))"],
    "a table that is not there": ["DROP TABLE reports"],
    "a column that is not there": ["ALTER TABLE takes DROP COLUMN note"],
    "a plan that is none": ["UPDATE plan_steps SET plan = '[1, 2]'"],
    "JSON without an end": [f"UPDATE plan_steps SET plan = '{'[' * 20_000}'"],
    "a correction that is none": ["UPDATE correction_steps SET correction = json_set(correction, '$.bands', 7)"],
    "a rig that is none": ["UPDATE jobs SET rig = '7'"],
    "units of no country": ["UPDATE jobs SET units = 'cubits'"],
    "a polarity that is none": ["UPDATE takes SET polarity = 'sideways'"],
    "a pass of no kind": ["UPDATE passes SET kind = 'magic'"],
    "a name of bytes": ["UPDATE jobs SET name = x'00ff'"],
    "a name that can't be shown": ["UPDATE jobs SET name = 'a' || char(1)"],
    "an arrival without end": ["UPDATE takes SET arrival_s = 9e999"],
    "a number beyond those that JSON holds exactly": [f"UPDATE takes SET attempt = {2**53 + 1}"],
    "a number that is text": ["UPDATE takes SET attempt = 'three'"],
    "a level of other points": ["UPDATE takes SET level_db = zeroblob(24)"],
    "half a sample": ["UPDATE samples SET response = zeroblob(7)"],
    "samples that are text": ["UPDATE samples SET response = 'loud'"],
    "a signal that is none": ['UPDATE samples SET sweep = \'{"kind": "sweep", "length": 3}\''],
    "a text as long as a book": ["UPDATE jobs SET notes = hex(zeroblob(9000000))"],
}


@pytest.mark.parametrize("kind", STRANGE)
def test_what_dolce_would_not_have_written_is_refused_and_changes_nothing(written, elsewhere, kind):
    before = [(job.id, job.name, job.changed_at) for job in elsewhere.jobs.all()]
    with closing(sqlite3.connect(elsewhere.folder / "dolce.sqlite")) as link:
        states = link.execute("SELECT id, body FROM states ORDER BY id").fetchall()
    put_back(elsewhere, resealed(written, STRANGE[kind]))
    assert "no backup that Dolce has written" in elsewhere.folder_work.present.fault
    assert [(job.id, job.name, job.changed_at) for job in elsewhere.jobs.all()] == before
    with closing(sqlite3.connect(elsewhere.folder / "dolce.sqlite")) as link:
        assert link.execute("SELECT id, body FROM states ORDER BY id").fetchall() == states
        assert link.execute("SELECT count(*) FROM samples").fetchone() == (8 * 2,)


def test_only_backups_of_the_folder_are_opened_or_deleted(services):
    folder = services.backups.folder
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "notes.txt").write_text("mine")
    (folder.parent / "outside.dolce-backup").write_text("mine")
    (folder / "link.dolce-backup").symlink_to(folder / "notes.txt")
    for name in ("notes.txt", "../outside.dolce-backup", "link.dolce-backup", "none.dolce-backup"):
        for act in (services.backups.open, services.backups.delete):
            with pytest.raises(NotFound, match="there is no backup"):
                act(name)
    assert (folder / "notes.txt").exists()
    assert (folder.parent / "outside.dolce-backup").exists()


def test_numbers_near_the_end_of_all_numbers_leave_room_for_what_comes_after(filled, written, elsewhere):
    services, job_id = filled
    last = 2**63 - 2
    tables = (
        "plan_steps",
        "rounds",
        "passes",
        "alignment_steps",
        "correction_steps",
        "logbook",
        "selections",
        "correction_versions",
        "kept_states",
        "alignment_versions",
    )
    far = resealed(
        written,
        [
            f"UPDATE jobs SET id = {last}, round_id = {last} - round_id",
            *(f"UPDATE {table} SET job_id = {last}" for table in tables),
            f"UPDATE rounds SET id = {last} - id",
            f"UPDATE takes SET round_id = {last} - round_id, id = {last} - id",
            f"UPDATE alignment_steps SET alignment = json_set(alignment, '$.round_id', {last} - "
            f"(alignment ->> '$.round_id'))",
            *(
                f"UPDATE {table} SET correction = "
                f"json_set(correction, '$.round_id', {last} - (correction ->> '$.round_id'), "
                f"'$.alignment.round_id', {last} - (correction ->> '$.alignment.round_id'))"
                for table in ("correction_steps", "correction_versions")
            ),
            f"UPDATE logbook SET id = {last} - id",
        ],
    )
    before = {job.id for job in elsewhere.jobs.all()}
    assert put_back(elsewhere, far).fault == ""
    (new,) = {job.id for job in elsewhere.jobs.all()} - before
    assert new < 100
    assert len(list(elsewhere.taking.board(new).takes)) == len(list(services.taking.board(job_id).takes))
    assert elsewhere.jobs.create(JobDetails(name="The next one")).id == new + 1


def test_a_pass_that_ran_when_the_backup_was_written_does_not_run_where_it_is_put_back(written, elsewhere):
    ran = "UPDATE passes SET state = 'running' WHERE id = (SELECT max(id) FROM passes)"
    put_back(elsewhere, resealed(written, [ran]))
    assert elsewhere.folder_work.present.fault == ""
    elsewhere.taking.run_spot(1, elsewhere.jobs.get(1).spots[0].id)  # refused while anything sounds
    elsewhere.sound.wait()


def test_takes_that_were_played_behind_a_sync_chirp_are_put_back(written, elsewhere):
    synced = "UPDATE samples SET sweep = json_set(sweep, '$.sync_flight_s', 0.0071, '$.sync_code', 2)"
    assert put_back(elsewhere, resealed(written, [synced])).fault == ""
