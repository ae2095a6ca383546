"""Claims beside their measurements."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from jovik.analysis.claim_candidates import ClaimCandidate, Lack
from jovik.analysis.claims import ClaimVerdict, Verdict
from jovik.analysis.cliff_agreement import cliff_agreement_note
from jovik.analysis.drive_class import class_of_step
from jovik.analysis.drive_faults import fault_words
from jovik.analysis.evidence import Drawback
from jovik.analysis.lost_data import lost_words
from jovik.base.interval import Interval
from jovik.base.quantities import show_rate, show_size
from jovik.queries.claims import ClaimsReport
from jovik.sheets.sheet import Claim, Drive
from jovik.tables.drive_class import standing_lines, usual_words
from jovik.tables.evidence import suspect_words
from jovik.tables.runs import excluded_words
from jovik.tables.table import Table


def claims_table(found: ClaimsReport) -> Table:
    """Return each claim with its verdict, followed by the reasons and doubts."""
    verdicts = found.verdicts
    runs = sorted({j.step.run for j in verdicts if j.step})
    lost = lost_in(found)
    words = {id(j): f"{j.claim.label}: {j.why}{_usual(found, j)}" for j in verdicts}
    open_ones = [
        j for j in verdicts if j.verdict not in (Verdict.MET, Verdict.BEATEN) or _passed_over(j)
    ]
    return Table(
        f"{found.sheet.drive.name}: {lost or 'claims'}",
        ["claim", "claimed", "measured", "95 % interval", "% of claim", "verdict"],
        [_row(j) for j in verdicts],
        right=(1, 2, 3, 4),
        optional_columns=(4,),
        verdict=[
            *(
                f"{found.sheet.drive.name} {fault_words(x, found.sheet.drive.capacity_bytes)}"
                for x in found.passed_over.faults.get(found.sheet.drive.name, ())
            ),
            f"{found.sheet.drive.name}: {claims_summary(verdicts)}",
            *(standing_lines(found.standing) if found.standing is not None else ()),
        ],
        notes=[
            *(words[id(j)] for j in open_ones),
            *(
                f"inconsistent: {x.what}, {show_rate(x.one.median)} and "
                f"{show_rate(x.two.median)}. Likely: {x.reason}"
                for x in found.disagreements
            ),
            cliff_agreement_note(found.cliffs) if found.cliffs is not None else "",
            *doubts(found),
            *excluded_words(found.excluded),
        ],
        small=[
            *(words[id(j)] for j in verdicts if j not in open_ones),
            *_kept(found.sheet.drive),
            f"margin {100 * found.margin:g} %; rates without the flush at the end; from run "
            f"{', '.join(runs)}"
            if runs
            else "",
        ],
    )


def claim_tables(found: ClaimsReport) -> list[Table]:
    """Return a table for each claim: every result of its order and direction, and what it lacks."""
    return [_why_table(j) for j in found.verdicts]


def _why_table(j: ClaimVerdict) -> Table:
    rows = [
        (
            c.result.step.label,
            _where(c),
            j.claim.shown(c.measured.median) if c.measured is not None else "-",
            _span(j.claim, c.measured) if c.measured is not None else "-",
            "decides" if c.result is j.step and not c.lacks else "; ".join(_lack_words(c)),
        )
        for c in sorted(j.candidates, key=lambda c: (c.result is not j.step, len(c.lacks)))
    ]
    claimed = ("up to " if j.claim.up_to else "") + j.claim.shown()
    return Table(
        f"{j.claim.label}, {claimed}: {j.verdict}",
        ["step", "run, sample, link", "figure", "95 % interval", "why, or why not"],
        rows,
        right=(2, 3),
        optional_columns=(3,),
        notes=[j.why, _settling_words(j)],
    )


def _where(c: ClaimCandidate) -> str:
    at = c.result.conditions
    return ", ".join(x for x in (c.result.run, at.sample, at.link) if x)


def _lack_words(c: ClaimCandidate) -> list[str]:
    if c.drawback is None:
        return list(map(str, c.lacks))
    return [DRAWBACKS[c.drawback], *(str(x) for x in c.lacks if x is not Lack.NOT_CHOSEN)]


# A row names its step, run and link itself, so a drawback needs no more than its name.
DRAWBACKS = {
    Drawback.NO_FIGURE: "no steady figure",
    Drawback.SUSPECT: "the sample is suspect",
    Drawback.BUFFERED: "measured through the page cache",
    Drawback.LINK: "its link carries no more",
    Drawback.CONTROL_GROUP: "a control group held it back",
    Drawback.RIG: "the same sample does more on another rig",
    Drawback.FIRMWARE: "an earlier firmware",
    Drawback.CACHE: "the write cache was partly full",
    Drawback.DISTURBED: "something else used the drive or the machine",
    Drawback.DRIFT: "its passes drift",
    Drawback.ONE_PASS: "one pass",
    Drawback.OLDER: "an older result of the same step",
}


def _settling_words(j: ClaimVerdict) -> str:
    """Return what would settle an open verdict."""
    if j.verdict is Verdict.UNTESTED:
        return f"what would test it: jovik measure TARGET {j.suggestion}"
    if j.verdict is Verdict.HELD and j.limit is not None:
        return f"what would test it: the same step on a rig whose {j.limit.what} carries more"
    if j.verdict is Verdict.CLOSE and j.claim.sustained:
        return f"what would settle it: a longer write, jovik measure TARGET {j.suggestion}"
    if j.verdict in (Verdict.CLOSE, Verdict.ONE_PASS):
        return "what would settle it: jovik judge DRIVE --settle TARGET"
    return ""


def _passed_over(j: ClaimVerdict) -> bool:
    """Return True if a newer result was passed over for more than its age."""
    return any(c.drawback not in (None, Drawback.OLDER) for c in j.candidates)


def _usual(found: ClaimsReport, j: ClaimVerdict) -> str:
    """Return the usual range of the drive's class, if classes know the claim's step."""
    what = class_of_step(j.step) if j.step is not None else None
    figure = found.standing.drive_class.figure(what) if found.standing and what else None
    if figure is None or found.standing is None:
        return ""
    return f"; usual for a {found.standing.drive_class.title}: {usual_words(figure)}"


def lost_in(found: ClaimsReport) -> str:
    """Return the headline if the drive lost data, or an empty string."""
    return lost_words(found.lost, found.sheet.drive.capacity_bytes) if found.lost else ""


def claims_summary(verdicts: Sequence[ClaimVerdict]) -> str:
    """Return one line for all claims: ``3 of 5 claims met, 1 short, 1 untested``."""
    counts = Counter(str(j.verdict) for j in verdicts)
    satisfied = counts.pop("met", 0) + counts.pop("beaten", 0)
    held = counts.pop("held back", 0)
    by = list(dict.fromkeys(j.limit.what for j in verdicts if j.limit is not None))
    # A verdict that is no adjective needs a word before it.
    shown = {Verdict.ONE_PASS: "with one pass only"}
    rest = "".join(f", {n} {shown.get(Verdict(v), v)}" for v, n in counts.items())
    rest += f", {held} held back by the {' and the '.join(by)}" if held else ""
    return f"{satisfied} of {len(verdicts)} claim{'s' if len(verdicts) != 1 else ''} met{rest}"


def doubts(found: ClaimsReport) -> list[str]:
    """Return words where the figures are of more than one sample, or of one that is not right."""
    used = sorted(
        {
            j.step.conditions.sample
            for j in found.verdicts
            if j.step is not None and j.step.conditions.sample is not None
        }
    )
    words = (
        [
            f"warning: these are figures of {' and '.join(used)}; jovik judge --samples shows "
            "them separately"
        ]
        if len(used) > 1
        else []
    )
    words += [
        f"warning: on rig '{rig}' the same sample was clearly slower than elsewhere: check the "
        "port, the cable and the machine; the drive may also have become "
        "slower since: measure it there again"
        for rig in dict.fromkeys(s.rig for s in found.passed_over.slowed())
    ]
    words += [
        f"{x.sample} has firmware {x.now} now and had {x.before} until {x.until}: differences "
        "between those results may be due to the firmware"
        for x in found.firmware
    ]
    return words + [
        suspect_words(found.sheet.drive.name, s, others_represent=s.sample not in used)
        for s in found.samples.suspects
    ]


def _kept(drive: Drive) -> list[str]:
    """Return the maker's statements that no test of a day can judge."""
    words = (
        [f"endurance {show_size(drive.endurance_bytes)} written"] if drive.endurance_bytes else []
    )
    words += [f"warranty {drive.warranty_years:g} years"] if drive.warranty_years else []
    words += [f"price {drive.spelled_price}"] if drive.price else []
    return [f"shown, not judged: {', '.join(words)}"] if words else []


def _row(j: ClaimVerdict) -> tuple[str, ...]:
    claimed = ("up to " if j.claim.up_to else "") + j.claim.shown()
    if j.measured is None or j.share is None:
        return (j.claim.label, claimed, "-", "-", "-", str(j.verdict))
    share = f"{100 * j.share.median:.1f} %"
    return (
        j.claim.label,
        claimed,
        j.claim.shown(j.measured.median),
        _span(j.claim, j.measured),
        share,
        str(j.verdict),
    )


def _span(claim: Claim, value: Interval) -> str:
    if value.low is None or value.high is None:
        return "-"
    low, high, middle = (claim.shown(v) for v in (value.low, value.high, value.median))
    units = {x.partition(" ")[2] for x in (low, high, middle)}
    # The figure beside it says the unit, where it is the same.
    return f"{low.split()[0]} to {high.split()[0] if len(units) == 1 else high}"
