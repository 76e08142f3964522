"""``python -m gelassen.study.schemas``: write the schemas of study and run files anew."""

import json
from pathlib import Path

from gelassen.study.disk.run_file import RunFile
from gelassen.study.file.study_file import StudyFile


def main() -> None:
    """Write both beside this file."""
    for name, model in (("study", StudyFile), ("run", RunFile)):
        text = json.dumps(model.model_json_schema(), indent=2, ensure_ascii=False)
        Path(__file__).with_name(f"{name}.schema.json").write_text(text + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
