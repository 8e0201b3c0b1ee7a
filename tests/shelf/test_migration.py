"""A shelf of the first version comes along: codes of their own, masses kept."""

import pytest
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

BEFORE, AFTER = [("shelf", "0001_assets_and_library")], [("shelf", "0002_whole_shelf")]


@pytest.mark.django_db(transaction=True)
def test_batteries_of_the_first_version_keep_their_mass_and_get_a_code():
    """Back to the old tables, two batteries, and forward again."""
    executor = MigrationExecutor(connection)
    old = executor.migrate(BEFORE).apps
    for tag, mass in (("K1", 2.6), ("K2", None)):
        asset = old.get_model("shelf", "Asset").objects.create(tag=tag, kind="battery")
        old.get_model("shelf", "Battery").objects.create(
            asset=asset, chemistry="agm", series=6, nameplate_ah=35, mass_kg=mass
        )

    executor.loader.build_graph()
    new = executor.migrate(AFTER).apps
    found = list(new.get_model("shelf", "Asset").objects.order_by("tag"))

    assert [asset.mass_kg for asset in found] == [2.6, None]
    assert len({asset.token for asset in found}) == 2
    assert all(len(asset.token) == 20 for asset in found)
    new.get_model("shelf", "Asset").objects.all().delete()
    MigrationExecutor(connection).migrate(executor.loader.graph.leaf_nodes())
