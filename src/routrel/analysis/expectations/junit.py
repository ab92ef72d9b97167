"""What holds of expectations as JUnit's XML, which pipelines show: a case per expectation."""

from xml.etree import ElementTree

from routrel.analysis.answers.expectations import ExpectationHeld, ExpectationsHeld
from routrel.analysis.expectations.failures import KIND_WORDS


def junit_xml(network: str, found: ExpectationsHeld) -> str:
    """A suite named by the network; an expectation of severity ``note`` that fails is skipped, not failed."""
    counted = [one for one in found.expectations if one.severity != "note"]
    suite = ElementTree.Element(
        "testsuite",
        name=network,
        tests=str(len(found.expectations)),
        failures=str(sum(one.state == "fails" for one in counted)),
        errors=str(sum(one.state == "refused" for one in counted)),
        skipped=str(
            sum(one.state != "holds" for one in found.expectations) - sum(one.state != "holds" for one in counted)
        ),
    )
    for one in found.expectations:
        case = ElementTree.SubElement(suite, "testcase", classname=one.owner or network, name=one.name)
        if one.state != "holds":
            kind = "skipped" if one.severity == "note" else "failure" if one.state == "fails" else "error"
            ElementTree.SubElement(case, kind, message=one.words).text = "\n".join(_reasons(one))
    ElementTree.indent(suite)
    return ElementTree.tostring(suite, "unicode", xml_declaration=True) + "\n"


def _reasons(one: ExpectationHeld) -> list[str]:
    flows = [
        f"{held.flow.source} > {held.flow.to} {held.flow.service}: {'; '.join(held.reasons)}" for held in one.flows
    ]
    return flows + [f"does not survive {KIND_WORDS[failure.kind]} {failure.name}" for failure in one.not_survived]
