"""A node's metrics: counted from its records, and readable by Prometheus."""

from prometheus_client import generate_latest
from prometheus_client.parser import text_string_to_metric_families

from core.traffic.test_traffic import record
from tamarack.gateway.metrics import NodeMetrics


def read(metrics: NodeMetrics) -> dict[tuple[str, tuple[tuple[str, str], ...]], float]:
    """Every sample, by its name and labels."""
    found = {}
    for family in text_string_to_metric_families(generate_latest(metrics.registry).decode()):
        for sample in family.samples:
            labels = {name: value for name, value in sample.labels.items() if name not in ("environment", "node")}
            found[sample.name, tuple(sorted(labels.items()))] = sample.value
    return found


def test_calls_refusals_and_durations_are_counted_from_records() -> None:
    metrics = NodeMetrics("production", "production-1", [("tamarack_rollout", "The rollout.", lambda: 7)])
    ok = [record(0, 3_000 + place, api="sailings", version="2", backend_us=2_000, target="t") for place in range(10)]
    refused = [record(0, 120, api="sailings", version="2", status=429, reason="over-rate")] * 3
    failed = [record(0, 30_000_000, api="fares", version="1", status=504, reason="backend-slow", target="t")]
    metrics.count(ok)
    metrics.count(refused + failed)
    samples = read(metrics)
    sailings = (("api", "sailings"),)
    answered = (("api", "sailings"), ("outcome", "answered"), ("version", "2"))
    assert samples["tamarack_calls_total", answered] == 10
    assert samples["tamarack_refusals_total", (("reason", "over-rate"),)] == 3
    assert samples["tamarack_refusals_total", (("reason", "backend-slow"),)] == 1
    assert samples["tamarack_call_duration_seconds_count", sailings] == 13
    assert samples["tamarack_call_duration_seconds_bucket", (*sailings, ("le", "0.001"))] == 3
    assert samples["tamarack_call_duration_seconds_bucket", (*sailings, ("le", "0.005"))] == 13
    assert samples["tamarack_call_duration_seconds_bucket", (("api", "fares"), ("le", "10.0"))] == 0
    assert samples["tamarack_call_duration_seconds_bucket", (("api", "fares"), ("le", "+Inf"))] == 1
    assert samples["tamarack_backend_duration_seconds_count", ()] == 11
    assert samples["tamarack_gateway_duration_seconds_count", ()] == 14
    assert samples["tamarack_rollout", ()] == 7
    assert ("process_open_fds", ()) in samples


def test_no_more_series_are_made_than_can_be_kept(monkeypatch) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.setattr("tamarack.gateway.metrics.MOST_SERIES", 5)
    metrics = NodeMetrics("test", "test-1")
    metrics.count([record(0, api=f"api-{place}", version="1") for place in range(50)])
    calls = {labels: value for (name, labels), value in read(metrics).items() if name == "tamarack_calls_total"}
    assert len(calls) == 6
    assert sum(calls.values()) == 50
