"""Long work: progress, rate, time left, pause, stop, results kept on stop, going on after a kill."""

from wolbrin.core.jobs.engines import Engine, Kind, cores
from wolbrin.core.jobs.job import Job, Progress, State, Work, single
from wolbrin.core.jobs.source import Chunk, Listed, Source, Until
from wolbrin.core.jobs.worker import Stopped, check_stopped

__all__ = ["Chunk", "Engine", "Job", "Kind", "Listed", "Progress", "Source", "State", "Stopped", "Until", "Work",
           "check_stopped", "cores", "single"]
