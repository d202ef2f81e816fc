"""What a use case gives: results of one kind, that a data frame can be made of."""

from typing import Any, TypeVar

from hot_anvil.errors import MissingError

Made = TypeVar("Made")


class ResultSet(tuple[Made, ...]):
    """Results of one kind, as a rule one for each snippet."""

    __slots__ = ()

    def to_frame(self) -> Any:
        """Return the results as a pandas.DataFrame; its columns are those of their CSV.

        Raises MissingError without pandas, RequestError for results that are no table.
        """
        from hot_anvil.core.results.tables import table_of

        try:
            import pandas
        except ImportError:
            raise MissingError(
                "to_frame needs pandas, which is not installed: pip install 'hot-anvil[pandas]'."
            ) from None
        table = table_of(self)
        return pandas.DataFrame(list(table.rows), columns=list(table.columns))
