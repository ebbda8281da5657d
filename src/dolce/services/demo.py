"""Sample jobs: an attic composing room, once complete to the end and once untouched. All of it is made up."""

from collections.abc import Callable
from dataclasses import replace

from dolce.core.correction import Limits, Target
from dolce.core.geometry import Point, RoomSize, cluster
from dolce.core.job import Job, Rig, Speaker
from dolce.services.wiring import Services

COMPLETE = "Ferry Lane attic"
UNTOUCHED = "Ferry Lane attic, to practise"
_ROOM = RoomSize(length_m=5.1, width_m=3.7, height_m=2.4, temperature_c=21.0)
_SEAT = Point(x_m=1.90, y_m=1.86, z_m=1.18)


def build_demo(services: Services, *, report: Callable[[str], None] = lambda _: None) -> None:
    """Make both sample jobs through the same services that a person uses, with the rehearsal rig."""
    report("Preparing the sample job: the rehearsal rig takes all spots twice.")
    job = _attic(services, COMPLETE)
    services.rigging.check_level(job.id)
    services.sound.wait()
    services.taking.run_rest(job.id)
    services.sound.wait()
    report("Untouched round taken.")
    services.aligning.use_proposal(job.id)
    services.shaping.set_aim(job.id, target=Target(bass_lift_db=3.0, tilt_db_per_octave=-0.4),
                             limits=Limits(from_hz=40.0, to_hz=500.0),
                             anchor="band", anchor_band_hz=(200.0, 2000.0), anchor_level_db=0.0, linked=False)
    services.shaping.find(job.id)
    services.loading.load(job.id, "A", "corrected")
    services.loading.load(job.id, "B", "aligned")
    services.loading.switch(job.id, "A")
    services.taking.new_round(job.id)
    services.taking.run_rest(job.id)
    services.sound.wait()
    report("Corrected round taken.")
    services.rigging.set_rig(job.id, pace="real time")
    practice = services.jobs.copy(job.id, with_takes=False, name=UNTOUCHED)
    services.rigging.set_rig(practice.id, pace="real time")


def _attic(services: Services, name: str) -> Job:
    context = services.context
    half = 0.72
    with context.change() as work:
        job = work.jobs.add(
            name=name, place="Second floor, under the roof", units="metres", room=_ROOM, seed=7, at=context.now(),
            notes="Composing room. One pair of monitors on stands, a desk, a sofa at the back.",
            speakers=[Speaker(channel="L", place=Point(x_m=round(_SEAT.x_m - half, 2), y_m=0.62, z_m=1.16), output=1),
                      Speaker(channel="R", place=Point(x_m=round(_SEAT.x_m + half, 2), y_m=0.56, z_m=1.16), output=2)],
            seat_name="Mixer", seat=_SEAT, spots=cluster(_SEAT, count=9, spacing_m=0.22, room=_ROOM),
            rig=Rig(pace="fast", microphone_name="Rehearsal microphone", microphone_serial="RM-0001"))
        work.logbook.add(job.id, "Job created.", at=context.now())
    services.rigging.set_curve(job.id, services.rigging.rehearsal_curve(), file_name="rehearsal-microphone.txt")
    return replace(job)
