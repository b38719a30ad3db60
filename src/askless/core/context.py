"""What judging and advising may use beside what was met: thresholds, the schema where it is known, the ORM's models."""

from __future__ import annotations

import msgspec

from askless.core.model import Model, Schema
from askless.core.settings import Settings
from askless.core.shape_stats import ShapeStats
from askless.core.sql.masking import masked

Models = dict[tuple[str, str], Model]


class Context(msgspec.Struct, frozen=True):
    """See the module. `models` are by ORM and name."""

    settings: Settings
    schema: Schema | None = None
    models: Models = {}

    def sql(self, stats: ShapeStats) -> str:
        """A shape's statement as reports show it: literals masked, unless they are wanted."""
        text = stats.statement.text.strip()
        return text if self.settings.show_values else masked(text, stats.statement.system)
