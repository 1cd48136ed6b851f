"""Writes the JSON Schemas of the project's file formats to docs/schemas."""

from __future__ import annotations

import json
from pathlib import Path

from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.terms import Terms
from wolbrin.core.portfolio.file import PortfolioFile
from wolbrin.core.rules.conditions import ConditionFile
from wolbrin.core.rules.model import Strategy
from wolbrin.core.study.answers import StudyAnswer, TrialAnswer
from wolbrin.core.work.discover_answer import DiscoverAnswer, ShelfAnswer
from wolbrin.core.work.scan_answer import ScanAnswer
from wolbrin.core.work.shelving import CandidateFile
from wolbrin.core.work.sweep_answer import SweepAnswer
from wolbrin.core.work.sweep_sets import ParameterSet
from wolbrin.core.work.walk_answer import WalkAnswer

FOLDER = Path(__file__).parents[1] / "docs/schemas"
MODELS = {"market": Terms, "layout": Layout, "strategy": Strategy, "conditions": ConditionFile, "parameters": ParameterSet,
          "sweep-answer": SweepAnswer, "walk-answer": WalkAnswer, "study-answer": StudyAnswer, "trial-answer": TrialAnswer,
          "discover-answer": DiscoverAnswer, "shelf-answer": ShelfAnswer, "candidate": CandidateFile,
          "portfolio": PortfolioFile, "scan-answer": ScanAnswer}


def texts() -> dict[str, str]:
    """Schema by file name."""
    return {f"{name}.schema.json": json.dumps(model.model_json_schema(), indent=1) + "\n" for name, model in MODELS.items()}


if __name__ == "__main__":
    FOLDER.mkdir(parents=True, exist_ok=True)
    for file, text in texts().items():
        (FOLDER / file).write_text(text)
