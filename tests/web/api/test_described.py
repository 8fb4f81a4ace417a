"""The API keeps to what it says of itself: requests are made from its description, and every answer held against it."""

from __future__ import annotations

from typing import Any

import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)
from structlog.testing import capture_logs

from nailer.core.people.rights import Right
from nailer.web.app import described
from tests.builders import write
from tests.web.conftest import Visitor
from tests.web.people.conftest import number_of, portal_of

SCHEMA = schemathesis.openapi.from_dict(described())
CHECKS = [status_code_conformance, content_type_conformance, response_schema_conformance]
_TAKEN = ("method", "url", "headers", "params", "json", "data", "content")
OPERATIONS = [one.ok() for one in SCHEMA.get_all_operations() if "/events" not in one.ok().path]


@pytest.fixture
def token(maren: Visitor) -> str:
    """A token for all of Maren's, on a site that was met."""
    write(maren.here, "index.html", "new")
    write(maren.there, "index.html", "old")
    number_of(maren.open_site())
    account = portal_of(maren).call(maren.nailer.people.accounts.by_name, "maren")
    made: str = portal_of(maren).call(maren.nailer.people.tokens.make, account.id, "described", None, list(Right), 5)
    return made


@pytest.mark.parametrize("operation", OPERATIONS, ids=lambda one: one.label)
def test_an_operation_answers_as_it_is_described(maren: Visitor, token: str, operation: Any) -> None:
    @settings(
        max_examples=8,
        deadline=None,
        database=None,
        derandomize=True,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @given(case=operation.as_strategy(), known=st.booleans())
    def _try(case: Any, known: bool) -> None:
        if known and "site_id" in case.path_parameters:
            sites = portal_of(maren).call(maren.nailer.stores.sites.all)
            case.path_parameters["site_id"] = sites[0].id
        asked = case.as_transport_kwargs(base_url="http://testserver", headers={"Authorization": f"Bearer {token}"})
        wanted = {name: value for name, value in asked.items() if name in _TAKEN and value is not None}
        with capture_logs() as logs:
            answer = maren.client.request(**wanted)
        assert not [log for log in logs if "nobody foresaw" in log["event"]], logs
        assert answer.status_code < 500 or answer.status_code == 502, answer.text
        case.validate_response(answer, checks=CHECKS)

    _try()
