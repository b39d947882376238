"""What a pages file may hold, key by key."""

from __future__ import annotations

from datetime import date, datetime, time
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from vrelko.core.arithmetic import Sizes
from vrelko.core.strategies import SERVED
from vrelko.core.workload import DEPTHS, LANDINGS

Scalar = str | bool | int | float | datetime | date | time
"""A value in `where` and `filters`; text such as ":station" is a parameter."""


CONDITION = "a value, ':parameter', or a table of ge, gt, le, lt, in or null"
"""What `where` and `filters` expect."""


class _Strict(BaseModel):
    """Keys with their bounds; what is not said is left to the records that hold the defaults."""

    # A misspelt key that were ignored would leave a listing unprotected or unfiltered in silence.
    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    def said(self, *without: str) -> dict[str, Any]:
        """Return the values that were given, by their keys; those `without` are left out."""
        return self.said_of(*(name for name in type(self).model_fields if name not in without))

    def said_of(self, *names: str) -> dict[str, Any]:
        """Return the values that were given of some keys."""
        # Not by value: whoever writes the default down has said it.
        return {name: getattr(self, name) for name in names if name in self.model_fields_set}


class ConditionModel(_Strict):
    """A condition other than equality."""

    ge: Scalar | None = None
    gt: Scalar | None = None
    le: Scalar | None = None
    lt: Scalar | None = None
    in_: list[Scalar] | None = Field(default=None, alias="in")
    null: bool | None = None

    @model_validator(mode="after")
    def _says_something(self) -> ConditionModel:
        if all(value is None for value in self.model_dump().values()):
            # An empty table would pass for "no condition" and show every row.
            raise ValueError(CONDITION)
        return self


# In this order, so that TOML's dates stay dates: a smart union may prefer text.
Condition = Annotated[Scalar | ConditionModel, Field(union_mode="left_to_right")]


class SourceModel(_Strict):
    """Where the database is, or facts that stand for one."""

    url: str | None = None
    url_env: str | None = None
    facts: str | None = None
    secrets_env: str | None = None
    # None in all of these: the default is said once, in the record that the value goes into.
    pool: int | None = Field(default=None, ge=1, le=1_000)
    pool_wait_s: float | None = Field(default=None, gt=0, le=600)
    statement_ms: float | None = Field(default=None, gt=0, le=3_600_000)
    at_once: int | None = Field(default=None, ge=1, le=1_000)


class SizesModel(_Strict):
    """Page sizes in rows; `max = "any"` sets no bound."""

    default: int = Field(default=Sizes().default, ge=1)
    # TOML has no null, so "no bound" needs a word.
    max: int | Literal["any"] = Sizes().max or "any"

    def sizes(self) -> Sizes:
        """Return the sizes as listings take them."""
        return Sizes(self.default, None if self.max == "any" else self.max)

    @model_validator(mode="after")
    def _in_order(self) -> SizesModel:
        if isinstance(self.max, int) and self.max < self.default:
            raise ValueError(f"max of at least the default, {self.default}")
        return self


class SearchModel(_Strict):
    """A text search."""

    columns: list[str] = Field(min_length=1)
    how: Literal["prefix", "contains", "words"] = "prefix"
    orders: list[str] = []


class DepthModel(_Strict):
    """How deep readers go."""

    kind: Literal[DEPTHS] | None = None  # type: ignore[valid-type]
    mean: float | None = Field(default=None, ge=1)
    jumps: float | None = Field(default=None, ge=0, le=1)
    shares: list[Annotated[float, Field(ge=0)]] = []

    @model_validator(mode="after")
    def _measured(self) -> DepthModel:
        if (self.kind == "measured") != bool(self.shares):
            # Shares beside another kind would be ignored, and no shares are no measurement.
            raise ValueError('shares of requests for page 1, 2, … beside kind = "measured"')
        return self


class ReadersModel(_Strict):
    """How pages are asked for."""

    pages_per_minute: float | None = Field(default=None, ge=0)
    users: int | None = Field(default=None, ge=1)
    dwell_s: float | None = Field(default=None, ge=0)
    depth: DepthModel = DepthModel()
    round_trip_ms: float | None = Field(default=None, ge=0)


class LandsModel(_Strict):
    """Where new rows land."""

    kind: Literal[LANDINGS] | None = None  # type: ignore[valid-type]
    mean_s: float | None = Field(default=None, ge=0)

    @model_validator(mode="after")
    def _late_by(self) -> LandsModel:
        if self.kind == "late" and not self.mean_s:
            raise ValueError('mean_s above 0 beside kind = "late"')
        return self


class WritersModel(_Strict):
    """What changes."""

    inserts_per_minute: float | None = Field(default=None, ge=0)
    deletes_per_minute: float | None = Field(default=None, ge=0)
    lands: LandsModel = LandsModel()
    moves_per_minute: float | None = Field(default=None, ge=0)
    moving: list[str] = []


class UseModel(_Strict):
    """One variant in use."""

    order: str | None = None
    params: dict[str, Any] = {}
    share: float | None = Field(default=None, ge=0)


class NeedsModel(_Strict):
    """What the screen insists on."""

    jump: bool | None = None
    repeats: float | None = Field(default=None, ge=0)
    misses: float | None = Field(default=None, ge=0)
    p95_ms: float | None = Field(default=None, gt=0)
    memory_mb: float | None = Field(default=None, gt=0)
    jump_ms: float | None = Field(default=None, gt=0)
    exact_total: bool | None = None


class SettleModel(_Strict):
    """A delay for ascending tails."""

    column: str
    seconds: float = Field(default=0.0, ge=0)
    horizon: bool = False


class FrozenModel(_Strict):
    """Where frozen lists are stored."""

    url: str | None = None
    url_env: str | None = None
    table: str | None = None
    expires_s: float | None = Field(default=None, gt=0)
    most: int | None = Field(default=None, ge=1)
    most_in_all: int | None = Field(default=None, ge=1)
    reuse_s: float | None = Field(default=None, ge=0)
    lists_per_reader: int | None = Field(default=None, ge=1)

    @model_validator(mode="after")
    def _one_address(self) -> FrozenModel:
        if (self.url is None) == (self.url_env is None):
            raise ValueError('either url = "…" or url_env = "NAME"')
        return self


class SteadyModel(_Strict):
    """How pages are kept steady."""

    ceiling: bool = False
    overlap: int | None = Field(default=None, ge=0)
    settle: SettleModel | None = None
    frozen: FrozenModel | None = None


class WebModel(_Strict):
    """How a listing is asked for and answered over HTTP; False leaves a field out."""

    page: str | None = None
    size: str | None = None
    cursor: str | None = None
    sort: str | None = None
    prefix: str | None = None
    first: Literal[0, 1] | None = None
    offsets: bool | None = None
    numbers: bool | None = None
    in_path: bool | None = None
    fields: dict[str, str | Literal[False]] = {}
    unknown: Literal["refuse", "ignore"] | None = None
    on_bad_page: Literal["error", "clamp"] | None = None
    past_end: Literal["empty", "last", "error"] | None = None
    strip_width: int | None = Field(default=None, ge=5)
    export_rows_s: float | None = Field(default=None, gt=0)


class ListingModel(_Strict):
    """One listing."""

    kind: Literal["grid", "feed", "choices", "export"] = "grid"
    table: str | None = None
    sql: str | None = None
    python: str | None = None
    columns: list[str] = []
    where: dict[str, Condition] = {}
    filters: dict[str, Condition] = {}
    orders: list[str] = []
    search: SearchModel | None = None
    sizes: SizesModel | None = None
    total: Literal["exact", "capped", "about", "none"] | None = None
    count: Literal["each", "once"] | None = None
    cap: int | None = Field(default=None, ge=1)
    unique: list[str] | None = None
    expose: list[str] | bool = []
    max_offset: int | None = Field(default=None, ge=0)
    periods: str | None = None
    jumps: Literal["offset", "anchors"] | None = None
    anchor_file: str | None = None
    stored_zone: str = "UTC"
    strategy: Literal[SERVED] | None = None  # type: ignore[valid-type]
    steady: SteadyModel | None = None
    web: WebModel | None = None
    params: dict[str, list[Any]] = {}
    readers: ReadersModel = ReadersModel()
    writers: WritersModel = WritersModel()
    needs: NeedsModel = NeedsModel()
    uses: list[UseModel] = []

    @field_validator("params", mode="before")
    @classmethod
    def _as_lists(cls, value: Any) -> Any:
        if not isinstance(value, dict):
            raise ValueError("a table of parameter names with typical values")
        # One typical value is the usual case, and need not be written as a list.
        return {k: v if isinstance(v, list) and v else [v] for k, v in value.items()}

    @model_validator(mode="after")
    def _one_origin(self) -> ListingModel:
        # Rows come from one place: two would have to agree.
        if sum(one is not None for one in (self.table, self.sql, self.python)) != 1:
            raise ValueError(
                'one of table = "name", sql = "SELECT …" and python = "package.module:listing"'
            )
        return self


class PagesModel(_Strict):
    """A whole pages file."""

    source: SourceModel = SourceModel()
    listing: dict[str, ListingModel]

    @staticmethod
    def keys_beside(path: list[str]) -> list[str]:
        """Return the keys known where an unknown one was found."""
        # The second part is a listing's name, which is no key.
        inside = path[:1] == ["listing"] and len(path) > 2
        model: Any = ListingModel if inside else PagesModel
        for part in path[2:-1] if inside else path[:-1]:
            # Down the models along the path, as far as the key before the unknown one.
            model = _model_in(model.model_fields[part].annotation)
        return [field.alias or name for name, field in model.model_fields.items()]


def _model_in(annotation: Any) -> Any:
    """Return the model in an annotation such as `SizesModel | None`."""
    options = getattr(annotation, "__args__", (annotation,))
    models = [one for one in options if isinstance(one, type) and issubclass(one, BaseModel)]
    return models[0] if models else None
