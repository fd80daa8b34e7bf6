"""What the demo house computes and sifts later on: a score with bands, segments in folders, ninety days of sizes."""

from typing import Final

from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.groups import read_catalogue
from finesieve.services.kernel.scope import Scope
from finesieve.services.sift.over_time import past_sizes
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, list_segments, read_segment

__all__ = ["furnish_sift"]

_DERIVED: Final = (
    ("Years with us", "years", "years_between(signed_up_on, today())", "Since they signed up."),
    ("Yearly spend", "", "sum(orders.total where placed_at >= add_months(today(), -12))",
     "Orders of the last twelve months."),
    ("Next liming due", "", "add_years(last_limed, 3)", "Three years after any of their plots was limed."),
    ("Days to lease end", "days", "days_between(today(), latest(plots.leased_until by leased_until))",
     "Of the plot leased longest."),
    ("Engagement score", "points", "if(swaps_seed else false, 10, 0) + if(consent_email else false, 5, 0)"
     " + min(count(plots) * 10, 20) + if(favourite is filled, 5, 0)", "Swapping, letters, plots and a favourite."),
    ("Engagement", "", "if(engagement_score >= 25, \"Flowering\", engagement_score >= 10, \"Growing\", \"Sprouting\")",
     "Under 10 points Sprouting, from 25 on Flowering."),
)  # fmt: skip
_SEGMENTS: Final = (
    ("Invitations", "Flowering", "The most engaged.", 'engagement = "Flowering"'),
    ("Invitations", "Flowering swappers", "Who might hold a stall.",
     "segment.flowering and segment.swappers_north_and_hill"),
    ("The plots", "Lime due", "Before the lime is ordered.", "next_liming_due <= add_months(today(), 6)"),
    ("The plots", "Clay in hand", "A barrow of compost each.", 'any(plots where soil = "clay")'),
    ("The plots", "Lease ends soon", "To ask whether they go on.", "days_to_lease_end <= 300"),
    ("The plots", "No plot yet", "For the waiting list.", "count(plots) = 0 and (plots_wanted else 0) = 0"),
    ("Letters", "Reads the Almanac", "Said yes to the letter.", "consent_email"),
    ("Letters", "Young readers", "For the pages on window sills.",
     "segment.reads_the_almanac and segment.young_growers"),
    ("Letters", "Market gardeners", "Trade prices.", 'gardener = "market"'),
)  # fmt: skip
_FOLDERS: Final = {
    "Swappers, North and Hill": "Invitations", "Young growers": "Invitations", "Thirsty plots": "The plots",
}  # fmt: skip


def furnish_sift(scope: Scope) -> None:
    """More derived fields, twelve segments in three folders, and what their sizes were for ninety days."""
    group = next(one.id for one in read_catalogue(scope).groups if one.name == "Plot and growing")
    for label, unit, formula, help_ in _DERIVED:
        create_derived(scope, DerivedInput(label=label, unit=unit, formula=formula, help=help_, group_id=group))
    for entry in list_segments(scope):
        view = read_segment(scope, entry.id)
        asked = SegmentInput(
            name=view.name, description=view.description, expression=view.expression, folder=_FOLDERS.get(view.name, "")
        )
        change_segment(scope, entry.id, view.revision, asked)
    for folder, name, description, expression in _SEGMENTS:
        segment = create_segment(scope, name)
        asked = SegmentInput(name=name, description=description, expression=expression, folder=folder)
        change_segment(scope, segment, 1, asked)
    past_sizes(scope)
