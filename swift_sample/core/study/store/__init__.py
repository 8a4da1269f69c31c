"""A study on disk: its folder, its log, its lock."""

from swift_sample.core.study.folder import PLAN, Folder, study_folder
from swift_sample.core.study.store.store import Reading, Store, create_study, is_study, look_at_study

__all__ = ["PLAN", "Folder", "Reading", "Store", "create_study", "is_study", "look_at_study", "study_folder"]
