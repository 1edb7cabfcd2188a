"""The models of an API as developers see them: under the plans that open them, each with its price."""

from helpers import configuration
from tamarack.core.configuration.models_shown import ModelUnder, models_shown


def test_each_model_stands_under_the_plans_that_open_it_with_its_price_and_budget() -> None:
    plans = [
        {"name": "skiff", "title": "Skiff", "token_budget": 9000, "token_period": "day"},
        {"name": "liner", "title": "Liner", "price_per_thousand_tokens": "0.02", "tokens_included": 100000,
         "model_prices": ["long: prompt 0.1, completion 0.3"]},
    ]  # fmt: skip
    made = configuration(
        version={"policies": [{"kind": "models", "offered": ["notices", "long: liner"]}]},
        products=[{"name": "passage", "title": "Passage", "apis": ["sailings"], "plans": plans}],
    )
    api = made.apis[0]
    assert models_shown(made, api, api.versions[0]) == [
        ModelUnder("notices", "Passage", "Skiff", "free", "9000 tokens / day"),
        ModelUnder("notices", "Passage", "Liner", "0.02 EUR, after 100 000 included", ""),
        ModelUnder("long", "Passage", "Liner", "0.1 EUR prompt, 0.3 EUR answer", ""),
    ]


def test_an_api_that_says_nothing_of_models_shows_none() -> None:
    made = configuration()
    assert models_shown(made, made.apis[0], made.apis[0].versions[0]) == []
