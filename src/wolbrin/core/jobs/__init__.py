"""Long work: progress, rate, time left, pause, stop, results kept on stop."""

from wolbrin.core.jobs.engines import Engine, Kind, cores
from wolbrin.core.jobs.job import Chunk, Job, Progress, State

__all__ = ["Chunk", "Engine", "Job", "Kind", "Progress", "State", "cores"]
