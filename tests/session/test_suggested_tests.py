from yaffle.session.evidence import Evidence
from yaffle.session.suggested_tests import suggested_test


def test_a_findings_next_step_is_a_test_where_one_would_say_more(analysed_morning):
    from yaffle.findings.ranking import all_findings

    evidence = Evidence(analysed_morning)
    told = {f.cause: suggested_test(evidence, f) for f in all_findings(analysed_morning)}
    assert (told["processing"].kind, told["processing"].target) == ("connect", "203.0.113.21:5432")
    assert (told["name"].kind, told["name"].target) == ("reach", "203.0.113.54")
    assert told["loss"].kind == "route" and told["window"].kind == "reach"
    assert told["loss"].words.startswith("Test now: route ") and told["loss"].why
