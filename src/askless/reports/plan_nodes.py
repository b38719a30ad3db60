"""Plan trees as documents show them."""

from __future__ import annotations

from askless.core.plans.observations import Observation
from askless.core.plans.tree import Node
from askless.core.records.schema import Schema
from askless.reports import documents


def node_of(
    node: Node, schema: Schema, observations: list[Observation], total_ms: float = 0.0
) -> documents.PlanNode:
    """A plan node as a document shows it."""
    table = schema.table(node.table)
    estimate, actual, own_ms = node.estimate, node.actual, node.own_ms
    return documents.PlanNode(
        kind=node.kind,
        detail=node.detail,
        table=node.table,
        index=node.index,
        rows=table.rows if table is not None else None,
        observations=tuple(o.text for o in observations if o.node is node),
        children=tuple(node_of(child, schema, observations, total_ms) for child in node.children),
        estimated_rows=estimate.rows if estimate is not None else None,
        actual_rows=actual.rows if actual is not None else None,
        loops=actual.loops if actual is not None else None,
        own_ms=own_ms,
        share=own_ms / total_ms if own_ms is not None and total_ms else None,
        cost=estimate.cost if estimate is not None else None,
        alias=node.name if node.table and node.name != node.table else "",
        condition=" and ".join(part for part in (node.answered, node.filtered) if part),
    )


def nodes_of(
    plan: tuple[Node, ...], schema: Schema, observations: list[Observation]
) -> tuple[documents.PlanNode, ...]:
    """A whole plan; shares are of the time that all of it took."""
    total_ms = sum(node.total_ms for node in plan)
    return tuple(node_of(node, schema, observations, total_ms) for node in plan)
