"""Money, exactly: bills, discounts, taxes and refunds, against figures worked out by hand and an independent model."""

import unittest
from collections.abc import Mapping
from datetime import date
from decimal import ROUND_HALF_UP, Decimal
from fractions import Fraction

from hypothesis import given, settings
from hypothesis import strategies as st

from finesieve.core.commerce.amounts import in_currency, rounded, spread
from finesieve.core.commerce.bill import Bill, Entry, NoRate, bases_of, make_bill, rates_of
from finesieve.core.commerce.refunds import ChargedLine, ChargedOrder
from finesieve.core.commerce.shop import Method, Place, Product, Shop, TaxRate, Variant

RATES = {"reduced": Fraction(5, 100), "standard": Fraction(20, 100), "zero": Fraction(0)}


def f(text: str) -> Fraction:
    return Fraction(text)


def shown(bill: Bill) -> tuple[str, list[tuple[str, str]]]:
    taxes = [(str(in_currency(one.tax, 2)), str(in_currency(one.basis, 2))) for one in bill.taxes]
    return str(in_currency(bill.total, 2)), taxes


def returned(order: ChargedOrder, key: str, pieces: int = 1) -> tuple[str, str]:
    refund = order.refund(key, pieces)
    return str(in_currency(refund.amount, 2)), str(in_currency(refund.tax, 2))


def charged(bill: Bill, pieces: dict[str, int], rates: Mapping[str, Fraction]) -> ChargedOrder:
    """The order of a bill; lines that are not named in `pieces` are one piece each."""
    lines = {
        one.key: ChargedLine(one.key, pieces.get(one.key, 1), one.left, rates.get(one.tax_class))
        for one in bill.lines
        if one.kind != "discount"
    }
    return ChargedOrder(lines, {one.rate: one for one in bill.taxes})


class ByHand(unittest.TestCase):
    def test_tax_included(self) -> None:
        entries = [
            Entry("packets", "Packets", "goods", 3 * f("2.99"), "reduced"),
            Entry("kit", "Kit", "goods", f("34.50"), "standard"),
            Entry("letters", "Letters", "surcharge", 7 * f("0.35"), "standard"),
            Entry("box", "Delivery", "delivery", f("4.95"), "standard"),
            Entry("tenth", "10 % off", "discount", f("0.1") * (3 * f("2.99") + f("34.50"))),
        ]
        bill = make_bill(entries, "included", 2, RATES.get)
        self.assertEqual(shown(bill), ("46.52", [("0.38", "8.07"), ("6.41", "38.45")]))
        self.assertEqual([line.off for line in bill.lines], [90, 345, 0, 0, 0])
        self.assertEqual(bill.lines[-1].amount, -435)
        order = charged(bill, {"packets": 3}, rates_of(bill, RATES.get))
        self.assertEqual(
            [returned(order, "packets") for _ in range(3)], [("2.69", "0.13"), ("2.69", "0.12"), ("2.69", "0.13")]
        )
        with self.assertRaises(ValueError):
            order.refund("packets", 1)
        with self.assertRaises(ValueError):
            order.refund("kit", 0)

    def test_tax_added(self) -> None:
        goods = [
            Entry("seed", "Seed", "goods", 7 * f("1.05"), "reduced"),
            Entry("kit", "Kit", "goods", 2 * f("19.99"), "standard"),
            Entry("box", "Delivery", "delivery", f("6.00"), "standard"),
        ]
        after = bases_of(goods, "added", RATES.get)["order_after"]
        self.assertEqual(after, f("62.8935"))
        entries = [
            *goods,
            Entry("care", "Care", "surcharge", f("0.025") * after),
            Entry("five", "5 off", "discount", f("5.00"), over="order"),
        ]
        bill = make_bill(entries, "added", 2, RATES.get)
        self.assertEqual([line.left for line in bill.lines][:4], [666, 3623, 544, 157])
        self.assertEqual(shown(bill), ("58.56", [("0.33", "6.66"), ("8.33", "41.67")]))
        order = charged(bill, {"seed": 7, "kit": 2}, rates_of(bill, RATES.get))
        self.assertEqual(
            [returned(order, key) for key in ("kit", "kit", "box", "care")],
            [("18.12", "3.62"), ("18.11", "3.62"), ("5.44", "1.09"), ("1.57", "0.00")],
        )

    def test_bases(self) -> None:
        """With the tax in the prices, what is before it is without it; delivery counts for the order alone."""
        entries = [
            Entry("kit", "Kit", "goods", f("12"), "standard"),
            Entry("book", "Book", "goods", f("3")),
            Entry("box", "Delivery", "delivery", f("6"), "standard"),
            Entry("gift", "Gift", "surcharge", f("100"), "standard"),
        ]
        self.assertEqual(
            bases_of(entries, "included", RATES.get),
            {"goods_before": f("13"), "goods_after": f("15"), "order_before": f("18"), "order_after": f("21")},
        )

    def test_untaxed_is_not_nothing(self) -> None:
        """0 % has a line of tax; what is untaxed has none; a class without a rate stops the order."""
        entries = [Entry("a", "A", "goods", f("10"), "zero"), Entry("b", "B", "goods", f("10"))]
        self.assertEqual(shown(make_bill(entries, "added", 2, RATES.get)), ("20.00", [("0.00", "10.00")]))
        with self.assertRaises(NoRate):
            make_bill([Entry("c", "C", "goods", f("1"), "luxury")], "added", 2, RATES.get)

    def test_never_below_zero(self) -> None:
        entries = [
            Entry("a", "A", "goods", f("3"), "standard"),
            Entry("all", "All", "discount", f("10")),
            Entry("more", "More", "discount", f("1")),
            Entry("box", "Delivery", "delivery", f("2"), "standard"),
        ]
        bill = make_bill(entries, "included", 2, RATES.get)
        self.assertEqual((bill.total, [line.amount for line in bill.lines]), (200, [300, 200, -300, 0]))

    def test_ties_go_to_earlier_lines(self) -> None:
        self.assertEqual(spread(2, [1, 1, 1]), [1, 1, 0])
        self.assertEqual(spread(435, [897, 3450]), [90, 345])
        self.assertEqual(spread(5, [0, 0]), [0, 0])

    def test_half_away_from_zero(self) -> None:
        found = [rounded(f(text), 2) for text in ("18.115", "-18.115", "0.004999", "0.005")]
        self.assertEqual(found, [1812, -1812, 0, 1])
        self.assertEqual(rounded(f("1.5"), 0), 2)


class Rates(unittest.TestCase):
    shop = Shop(
        country="GB",
        tax_classes={"standard": "Standard", "food": "Food"},
        rates=(
            TaxRate(tax_class="standard", percent=Decimal(20), country="GB"),
            TaxRate(tax_class="standard", percent=Decimal(15), country="GB", since=date(2030, 1, 1)),
            TaxRate(tax_class="standard", percent=Decimal(7), country="GB", region="GB-JEY"),
            TaxRate(tax_class="food", percent=Decimal(0)),
        ),
        products=(
            Product(
                key="box", label="Box", price=Decimal("9.50"), tax_class="food",
                variants=(Variant(key="small", label="Small"), Variant(key="large", label="Large", price=Decimal(14))),
            ),
            Product(key="kit", label="Kit", price=Decimal("34.50"), tax_class="standard"),
        ),
        delivery=(Method(key="van", label="Van", price=Decimal("4.95"), tax_class="standard"),),
    )  # fmt: skip

    def test_by_class_place_and_day(self) -> None:
        gb, jersey, de = Place(country="GB"), Place(country="GB", region="GB-JEY"), Place(country="DE")
        for tax_class, place, day, percent in (
            ("standard", gb, date(2029, 12, 31), 20), ("standard", gb, date(2030, 1, 1), 15),
            ("standard", jersey, date(2030, 1, 1), 7), ("standard", de, date(2030, 1, 1), None),
            ("food", de, date(2030, 1, 1), 0), ("nothing", gb, date(2030, 1, 1), None),
        ):  # fmt: skip
            wanted = None if percent is None else Fraction(percent, 100)
            self.assertEqual(self.shop.rate(tax_class, place, day), wanted, (tax_class, place, day))
        self.assertEqual(self.shop.place(None, de), de)
        self.assertEqual(self.shop.place(Place(), None).country, "GB")

    def test_what_is_sold(self) -> None:
        for product, variant, price in (
            ("box", "small", "9.50"), ("box", "large", "14"), ("kit", "", "34.50"), ("box", "", None), ("kit", "x", None), ("x", "", None),
        ):  # fmt: skip
            offer = self.shop.offer(product, variant)
            self.assertEqual(offer and str(offer.price), price, (product, variant))

    def test_what_does_not_fit_together_is_refused(self) -> None:
        kit = self.shop.products[1]
        for wrong in (
            {"products": (kit, kit)},
            {"tax_classes": {}, "products": (kit,)},
            {"tax_classes": {}, "surcharge_tax_class": "standard"},
        ):
            with self.assertRaises(ValueError):
                Shop(**wrong)  # type: ignore[arg-type]  # of several types


# An independent model: the same rules in plain decimals of 60 digits, written without a look at the code.


def cents(amount: Decimal) -> int:
    return int((amount * 100).quantize(Decimal(1), rounding=ROUND_HALF_UP))


def model(lines: list[tuple[str, int, int]], discounts: list[tuple[str, int]], mode: str) -> tuple[int, dict[int, int]]:
    """Total and tax by rate; lines are (kind, pence, rate in per cent or −1), discounts (over, pence)."""
    left = [pence for _, pence, _ in lines]
    for over, off in discounts:
        among = [
            n for n, (kind, _, _) in enumerate(lines) if kind == "goods" or (over == "order" and kind == "delivery")
        ]
        total = sum(left[n] for n in among)
        off = min(off, total)  # noqa: PLW2901 - as a person would
        shares = {n: divmod(off * left[n], total) for n in among} if total else {}
        for n, (down, _) in shares.items():
            left[n] -= down
        rest = off - sum(down for down, _ in shares.values()) if shares else 0
        for n in sorted(shares, key=lambda n: (-shares[n][1], n))[:rest]:
            left[n] -= 1
    tax: dict[int, int] = {}
    for rate in {rate for _, _, rate in lines if rate >= 0}:
        basis = Fraction(sum(left[n] for n, (_, _, r) in enumerate(lines) if r == rate), 100)
        exact = basis * rate / (100 + rate) if mode == "included" else basis * rate / 100
        tax[rate] = int(exact * 100 + Fraction(1, 2))
    return sum(left) + (sum(tax.values()) if mode == "added" else 0), tax


LINES = st.lists(
    st.tuples(st.sampled_from(("goods", "goods", "delivery", "surcharge")), st.integers(0, 20_000), st.sampled_from((-1, 0, 5, 20))),
    min_size=1, max_size=8,
)  # fmt: skip
DISCOUNTS = st.lists(st.tuples(st.sampled_from(("goods", "order")), st.integers(0, 30_000)), max_size=3)


def bill_of(lines: list[tuple[str, int, int]], discounts: list[tuple[str, int]], mode: str) -> Bill:
    rates = {str(rate): Fraction(rate, 100) for rate in (0, 5, 20)}
    entries = [
        Entry(f"l{n}", "line", kind, Fraction(pence, 100), str(rate) if rate >= 0 else "")  # type: ignore[arg-type]
        for n, (kind, pence, rate) in enumerate(lines)
    ]
    entries += [
        Entry(f"d{n}", "off", "discount", Fraction(pence, 100), over=over)  # type: ignore[arg-type]
        for n, (over, pence) in enumerate(discounts)
    ]
    return make_bill(entries, mode, 2, rates.get)  # type: ignore[arg-type]


class AgainstAModel(unittest.TestCase):
    @settings(max_examples=2_000, deadline=None)
    @given(LINES, DISCOUNTS, st.sampled_from(("included", "added")))
    def test_totals_and_taxes(
        self, lines: list[tuple[str, int, int]], discounts: list[tuple[str, int]], mode: str
    ) -> None:
        bill = bill_of(lines, discounts, mode)
        total, tax = model(lines, discounts, mode)
        self.assertEqual((bill.total, {int(one.rate * 100): one.tax for one in bill.taxes}), (total, tax))
        self.assertTrue(all(line.left >= 0 for line in bill.lines if line.kind != "discount"))
        self.assertEqual(sum(line.tax for line in bill.lines), sum(one.tax for one in bill.taxes))

    @settings(max_examples=500, deadline=None)
    @given(LINES, DISCOUNTS, st.sampled_from(("included", "added")), st.data())
    def test_refunds_give_back_what_was_charged(
        self, lines: list[tuple[str, int, int]], discounts: list[tuple[str, int]], mode: str, data: st.DataObject
    ) -> None:
        """Piece by piece and in any order, never more than was charged, and in the end exactly that."""
        bill = bill_of(lines, discounts, mode)
        rates = {str(rate): Fraction(rate, 100) for rate in (0, 5, 20)}
        pieces = {f"l{n}": data.draw(st.integers(1, 4)) for n in range(len(lines))}
        order = charged(bill, pieces, rates)
        one_by_one = data.draw(st.permutations([key for key, many in pieces.items() for _ in range(many)]))
        refunds = [order.refund(key, 1) for key in one_by_one]
        self.assertTrue(all(one.amount >= 0 and one.tax >= 0 for one in refunds))
        self.assertEqual(
            sum(one.amount for one in refunds), sum(line.left for line in bill.lines if line.kind != "discount")
        )
        self.assertEqual(sum(one.tax for one in refunds), sum(one.tax for one in bill.taxes if one.basis))


if __name__ == "__main__":
    unittest.main()
