"""The one place that joins store, devices and services."""

from dataclasses import dataclass
from pathlib import Path

from dolce.core.correction import Compute
from dolce.services.align.aligned_proof import AligningProved
from dolce.services.align.aligning import Aligning
from dolce.services.align.common_bass import CommonBassBench
from dolce.services.align.crossing import Crossing
from dolce.services.align.proposing import Proposing
from dolce.services.align.sub_workbench import SubWorkbench
from dolce.services.context import Context
from dolce.services.jobs.backups import Backups
from dolce.services.jobs.folder_work import FolderWork
from dolce.services.jobs.job_keeping import JobKeeping
from dolce.services.jobs.progress import Progress
from dolce.services.jobs.space import Space
from dolce.services.load.listening import Listening
from dolce.services.load.loading import Loading
from dolce.services.load.room_listening import RoomListening
from dolce.services.prove.budgets import Budgets
from dolce.services.prove.decays import Decays
from dolce.services.prove.history import Histories
from dolce.services.prove.proving import Proving
from dolce.services.prove.reporting import Reporting
from dolce.services.prove.tolerating import Tolerating
from dolce.services.prove.twins import TwinKeeping
from dolce.services.prove.verdicts import Verdicts
from dolce.services.read.moving import Moving
from dolce.services.read.reading import Reading
from dolce.services.rig.interface_looping import InterfaceLooping
from dolce.services.rig.line_checking import LineChecking
from dolce.services.rig.live_sound import LiveSound
from dolce.services.rig.microphone_keeping import MicrophoneKeeping
from dolce.services.rig.network_processors import NetworkProcessors
from dolce.services.rig.processor_access import ProcessorAccess
from dolce.services.rig.processor_keeping import ProcessorKeeping
from dolce.services.rig.reference_levels import ReferenceLevels
from dolce.services.rig.rigging import Rigging
from dolce.services.rig.sound_pressure import SoundPressure
from dolce.services.rig.sub_matching import SubMatching
from dolce.services.room.following import RoomFollowing
from dolce.services.room.room_planning import RoomPlanning
from dolce.services.room.room_studies import RoomStudies
from dolce.services.sample.finishing import Finishing
from dolce.services.sample.preparing import Preparing
from dolce.services.shape.band_audition import BandHearing
from dolce.services.shape.band_editing import BandEditing
from dolce.services.shape.filter_searches import FilterSearches
from dolce.services.shape.finding import Finding
from dolce.services.shape.maximum_levels import MaximumLevels
from dolce.services.shape.range_proposing import RangeProposing
from dolce.services.shape.shaping import Shaping
from dolce.services.shape.switching import Switching
from dolce.services.shape.targets import Targets
from dolce.services.shape.versions import CorrectionVersions
from dolce.services.sound.sound_work import SoundWork
from dolce.services.takes.board_rows import BoardRows
from dolce.services.takes.cells import Cells
from dolce.services.takes.elsewhere import Elsewhere
from dolce.services.takes.imported_files import ImportedFiles
from dolce.services.takes.recordings import Recordings
from dolce.services.takes.rounds import Rounds
from dolce.services.takes.taking import Taking
from dolce.store import Database


@dataclass(frozen=True, slots=True)
class Services:
    """Everything a page or a command may ask for."""

    context: Context
    sound: SoundWork
    jobs: JobKeeping
    folder_work: FolderWork
    backups: Backups
    space: Space
    room: RoomPlanning
    following: RoomFollowing
    room_studies: RoomStudies
    rigging: Rigging
    lines: LineChecking
    pressure: SoundPressure
    microphones: MicrophoneKeeping
    loop: InterfaceLooping
    processor: ProcessorKeeping
    network: NetworkProcessors
    live: LiveSound
    reference: ReferenceLevels
    sub_matching: SubMatching
    rounds: Rounds
    taking: Taking
    recordings: Recordings
    cells: Cells
    rows: BoardRows
    elsewhere: Elsewhere
    imported_files: ImportedFiles
    reading: Reading
    moving: Moving
    aligning: Aligning
    workbench: SubWorkbench
    common_bass: CommonBassBench
    crossing: Crossing
    aligned: AligningProved
    shaping: Shaping
    finding: Finding
    bands: BandEditing
    ranges: RangeProposing
    targets: Targets
    versions: CorrectionVersions
    band_hearing: BandHearing
    switching: Switching
    maximum_levels: MaximumLevels
    loading: Loading
    listening: Listening
    room_listening: RoomListening
    proving: Proving
    tolerating: Tolerating
    histories: Histories
    decays: Decays
    twins: TwinKeeping
    budgets: Budgets
    reporting: Reporting
    verdicts: Verdicts
    progress: Progress
    preparing: Preparing

    @property
    def folder(self) -> Path:
        """The data folder."""
        return self.context.database.folder

    @property
    def is_new(self) -> bool:
        """Whether the data folder was made just now."""
        return self.context.database.is_new

    def close(self) -> None:
        """End all threads and free the data folder."""
        self.preparing.close()
        self.folder_work.stop()
        self.context.background.close()
        self.workbench.close()
        self.common_bass.close()
        self.finding.searches.close()
        self.listening.close()
        self.imported_files.close()
        self.sound.close()
        self.network.close()
        self.context.database.close()


def open_services(folder: Path, *, compute: Compute | None = None) -> Services:
    """Open a data folder. `compute` says where fits are computed; here, where nothing is said.

    Raises
    ------
    Conflict
        Where another running application holds it.
    StorageError
        Where it can't be used; nothing in it was changed then.
    """
    context, folder_work = Context(Database(folder)), FolderWork()
    sound = SoundWork(context)
    searches = FilterSearches()
    shaping = Shaping(context, searches)
    finding = Finding(context, shaping, searches, compute)
    ranges = RangeProposing(context, shaping)
    access = ProcessorAccess(context)
    rounds = Rounds(context)
    taking = Taking(context, sound, access)
    recordings = Recordings(context)
    elsewhere = Elsewhere(context, recordings)
    proposing = Proposing(context)
    live = LiveSound(context, sound, taking)
    aligning = Aligning(context, proposing)
    reading = Reading(context)
    proving = Proving(context)
    loading = Loading(context, shaping, access)
    versions = CorrectionVersions(context, shaping)
    listening = Listening(context, loading, shaping, finding, versions)
    tolerating = Tolerating(context, proving)
    lines = LineChecking(context, sound)
    verdicts = Verdicts(context, proving, tolerating, lines)
    sound.ended.append(verdicts.note_behind)
    decays = Decays(context, proving, reading)
    reporting = Reporting(context, shaping, loading, proving, tolerating, verdicts, reading, decays)
    common_bass = CommonBassBench(context, aligning, proposing)
    workbench, crossing = SubWorkbench(context, aligning, common_bass), Crossing(context, aligning)
    finishing = Finishing(
        context,
        rounds,
        taking,
        aligning,
        workbench,
        common_bass,
        crossing,
        shaping,
        ranges,
        finding,
        loading,
        reporting,
    )
    return Services(
        context=context,
        sound=sound,
        jobs=JobKeeping(context),
        folder_work=folder_work,
        backups=Backups(context, folder_work),
        space=Space(context, folder_work),
        room=RoomPlanning(context),
        following=RoomFollowing(context),
        room_studies=RoomStudies(context),
        rigging=Rigging(context, sound),
        lines=lines,
        pressure=SoundPressure(context, sound),
        microphones=MicrophoneKeeping(context, sound),
        loop=InterfaceLooping(context, sound),
        processor=ProcessorKeeping(context, access),
        live=live,
        network=NetworkProcessors(context, access),
        reference=ReferenceLevels(context, live),
        sub_matching=SubMatching(context, live),
        rounds=rounds,
        taking=taking,
        recordings=recordings,
        cells=Cells(context),
        rows=BoardRows(context),
        elsewhere=elsewhere,
        imported_files=ImportedFiles(context, elsewhere),
        reading=reading,
        moving=Moving(context, reading),
        aligning=aligning,
        workbench=workbench,
        common_bass=common_bass,
        crossing=crossing,
        aligned=AligningProved(context),
        shaping=shaping,
        finding=finding,
        bands=BandEditing(context, shaping),
        ranges=ranges,
        targets=Targets(context, shaping),
        versions=versions,
        band_hearing=BandHearing(context, shaping, live),
        switching=Switching(context, shaping),
        maximum_levels=MaximumLevels(context, shaping),
        loading=loading,
        listening=listening,
        room_listening=RoomListening(context, sound, loading, listening),
        proving=proving,
        tolerating=tolerating,
        histories=Histories(context, tolerating),
        decays=decays,
        twins=TwinKeeping(context, proving),
        budgets=Budgets(context, proving),
        reporting=reporting,
        verdicts=verdicts,
        progress=Progress(context, verdicts, taking.outliers),
        preparing=Preparing(context, taking, finishing),
    )
