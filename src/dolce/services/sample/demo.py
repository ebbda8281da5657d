"""Sample jobs: an attic composing room, once complete to the end and once untouched. All of it is made up."""

from collections.abc import Callable

from dolce.core.correction import MEAN_BAND_HZ, Limits, Target
from dolce.core.job import Job, Rig
from dolce.core.room import RoomPlan
from dolce.core.tuning import CorrectionSettings
from dolce.services.sample.demo_rooms import attic, barn, net_loft
from dolce.services.wiring import Services

COMPLETE = "Ferry Lane attic"
UNTOUCHED = "Ferry Lane attic, to practise"
NET_LOFT = "Saltmarsh net loft"
BARN = "Lantern barn"


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
    services.shaping.set_correction(
        job.id,
        correction_settings=CorrectionSettings(
            target=Target(tilt_db_per_octave=-0.4), limits=Limits(from_hz=45.0, to_hz=500.0)
        ),
        preference=None,
        anchor="band",
        anchor_band_hz=MEAN_BAND_HZ,
        anchor_level_db=0.0,
        linked=False,
    )
    services.finding.find(job.id)
    services.loading.load(job.id, "A", "corrected")
    services.loading.load(job.id, "B", "aligned")
    services.loading.switch(job.id, "A")
    services.rounds.new(job.id)
    services.taking.run_rest(job.id)
    services.sound.wait()
    report("Corrected round taken.")
    services.rigging.set_rig(job.id, pace="real time")
    practice = services.jobs.copy(job.id, with_takes=False, name=UNTOUCHED)
    services.rigging.set_rig(practice.id, pace="real time")
    loft = _job(
        services,
        NET_LOFT,
        plan=net_loft(),
        place="Harbour side, upper floor",
        seed=11,
        notes="Radio drama in 5.1 with two subs. One corner is cut off by the stairs.",
    )
    lantern = _job(
        services,
        BARN,
        plan=barn(),
        place="Behind the workshop",
        seed=13,
        notes="Screenings of a puppet company: 7.1.4 with three subs, two rows.",
    )
    for made in (loft, lantern):
        services.microphones.point(made.id, "speakers")
    # Their takes come in the background, while everything else can be used.
    services.preparing.want([loft.id, lantern.id], to_the_end=[loft.id])


def _attic(services: Services, name: str) -> Job:
    job = _job(
        services,
        name,
        plan=attic(),
        place="Second floor, under the roof",
        seed=7,
        notes="Composing room. One pair of monitors on stands, a desk, a sofa at the back. "
        "The left one stands before the chimney breast and can't go back further.",
    )
    services.microphones.point(job.id, "speakers")
    return job


def rehearsal_microphone(services: Services) -> int | None:
    """The simulated microphone on the shelf, with both its curves; its number."""
    keeping = services.microphones
    made = keeping.add(name="Rehearsal microphone", serial="RM-0001", sensitivity_mv_pa=12.6)
    for angle in (0, 90):
        keeping.read_curve(
            made.id, angle, keeping.rehearsal_curve(angle), file_name=f"rehearsal-microphone-{angle}.txt"
        )
    return made.id


def _job(services: Services, name: str, *, plan: RoomPlan, place: str, notes: str, seed: int) -> Job:
    context = services.context
    with context.change() as work:
        job = work.jobs.add(
            name=name,
            place=place,
            units="metres",
            plan=plan,
            seed=seed,
            at=context.now(),
            notes=notes,
            rig=Rig().changed(pace="fast", sweep_level_dbfs=-20.0),
        )
        work.logbook.add(job.id, "Job created.", at=context.now())
        shelf = work.microphones.all()
    services.microphones.use(job.id, shelf[0].id if shelf else rehearsal_microphone(services))
    return job
