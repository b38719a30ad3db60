"""Which table a column belongs to: by the scopes of a statement, through derived tables, CTEs and
subqueries.
"""

from __future__ import annotations

from typing import Any

from sqlglot import exp
from sqlglot.optimizer.scope import Scope, traverse_scope

from askless.core.sql.parsing import bare, is_star
from askless.core.sql.structure import Column


class Names:
    """The names of one statement. Made once a tree; its scopes say what is where."""

    def __init__(self, tree: Any) -> None:
        self.scopes: list[Scope] = list(traverse_scope(tree)) if isinstance(tree, exp.Query) else []
        self._of_select = {id(scope.expression): scope for scope in self.scopes}
        self._around: dict[int, Scope | None] = {}  # nodes -> the scope that they are in
        # A write's own table has no scope: its names are those that are in it.
        self._written: dict[str, str] = {}
        if not self.scopes:
            for table in tree.find_all(exp.Table):
                self._written.setdefault(table.alias_or_name, table.name)

    def scope_of(self, select: Any) -> Scope | None:
        """The scope of a SELECT."""
        return self._of_select.get(id(select))

    def scope_around(self, node: Any) -> Scope | None:
        """The scope that a node is in."""
        path = []
        above = node.parent
        while (
            above is not None
            and id(above) not in self._around
            and not isinstance(above, exp.Select)
        ):
            path.append(above)
            above = above.parent
        result = None
        if above is not None:
            known = self._around.get(id(above))
            result = self._of_select.get(id(above)) if isinstance(above, exp.Select) else known
        for passed in path:  # a long chain of conditions is climbed once
            self._around[id(passed)] = result
        return result

    def column(self, node: Any, scope: Scope | None = None) -> Column:
        """The table and the name of a column; both '' for what is not a column, the table '' where
        it can't be said.
        """
        if not isinstance(node, exp.Column):
            return Column("", "")
        if not self.scopes:
            alone = next(iter(self._written.values())) if len(self._written) == 1 else ""
            return Column(
                self._written.get(node.table, node.table) if node.table else alone, node.name
            )
        scope = scope or self.scope_around(node)
        return (
            self._resolved(node.table, node.name, scope)
            if scope is not None
            else Column(node.table, node.name)
        )

    def source(self, node: Any) -> str:
        """What a column's SELECT, or one around it, calls the table that it is of; '' for a derived
        table's column, or where it can't be said.
        """
        if not self.scopes:
            alone = next(iter(self._written)) if len(self._written) == 1 else ""
            return node.table or alone
        scope = self.scope_around(node)
        while scope is not None:
            selected = {key: scope.sources[key] for key in scope.selected_sources}
            name = node.table or (next(iter(selected)) if len(selected) == 1 else "")
            if name in selected:
                return name if isinstance(selected[name], exp.Table) else ""
            scope = scope.parent if node.table else None
        return ""

    def _resolved(self, table: str, name: str, scope: Scope) -> Column:
        """A column by what its scope, or one around it, calls its table."""
        around: Scope | None = scope
        while around is not None:
            sources = around.sources
            if table in sources:
                return self._in(sources[table], name) or Column("", name)
            if not table:
                result = self._without_table(name, around)
                if result is not None:
                    return result
            around = around.parent if around.is_subquery or around.is_correlated_subquery else None
        return Column(table, name)

    def _without_table(self, name: str, scope: Scope) -> Column | None:
        """A column that is alone: of the only source, or of the only one that is known to have
        it.
        """
        sources = [source for key, source in scope.sources.items() if key in scope.selected_sources]
        if len(sources) == 1:
            return self._in(sources[0], name)
        derived = [source for source in sources if isinstance(source, Scope)]
        having = [result for source in derived if (result := self._in(source, name)) is not None]
        return having[0] if len(having) == 1 and len(derived) == len(sources) else None

    def _in(self, source: Any, name: str) -> Column | None:
        """A column of a source: of the table itself, or of what a derived table makes of one; None
        if it has none.
        """
        if isinstance(source, exp.Table):
            return Column(source.name, name)
        if not isinstance(source, Scope):
            return None
        query = source.expression
        while isinstance(query, exp.SetOperation):  # the first branch names the columns
            query = query.left
            query = query.this if isinstance(query, exp.Subquery) else query
        inner = self.scope_of(query)
        if inner is None or not isinstance(query, exp.Select):
            return None
        for output in query.expressions:
            if is_star(output):
                return self._without_table(name, inner) or self._resolved(output.table, name, inner)
            if output.alias_or_name == name:
                product = bare(output)
                return (
                    self.column(product, inner)
                    if isinstance(product, exp.Column)
                    else Column("", "")
                )
        return None

    def table(self, source: Any) -> str:
        """The name of the table after a FROM or a JOIN: the one that a derived table reads
        first.
        """
        if isinstance(source, exp.Table):
            scope = self.scope_around(source)
            known = scope.sources.get(source.alias_or_name) if scope is not None else None
            if isinstance(known, Scope):  # a CTE
                inner = known.expression.find(exp.Table)
                return self.table(inner) if inner is not None and inner is not source else ""
            return source.name
        first = source.find(exp.Table) if source is not None else None
        return self.table(first) if first is not None else ""
