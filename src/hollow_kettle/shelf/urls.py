"""URLs of the Shelf."""

from django.urls import path

from .actions import views as actions
from .bench import views as bench
from .browse import load_views as loads
from .browse import views as assets
from .custody import views as custody
from .due import views as due
from .fits import views as joins
from .kits import views as kits
from .lists import views as lists
from .prints import views as prints

app_name = "shelf"
urlpatterns = [
    path("", assets.asset_list, name="asset_list"),
    path("results/", assets.list_results, name="list_results"),
    path("bulk/", custody.bulk, name="bulk"),
    path("add/", assets.kind_list, name="kind_list"),
    path("add/<slug:kind>/", assets.asset_add, name="asset_add"),
    path("assets/<uuid:uid>/recharge/", assets.recharge_time, name="asset_recharge"),
    path("assets/<uuid:uid>/", assets.asset_detail, name="asset_detail"),
    path("assets/<uuid:uid>/edit/", assets.asset_edit, name="asset_edit"),
    path("assets/<uuid:uid>/archive/", assets.asset_archive, name="asset_archive"),
    path("assets/<uuid:uid>/ports/", assets.port_add, name="port_add"),
    path("ports/<int:pk>/delete/", assets.port_delete, name="port_delete"),
    path("assets/<uuid:uid>/attach/", assets.attachment_add, name="attachment_add"),
    path("attachments/<uuid:uid>/", assets.attachment, name="attachment"),
    path(
        "attachments/<uuid:uid>/delete/",
        assets.attachment_delete,
        name="attachment_delete",
    ),
    path("assets/<uuid:uid>/tests/", bench.bench_add, name="bench_add"),
    path("tests/<uuid:uid>/accept/", bench.bench_accept, name="bench_accept"),
    path("assets/<uuid:uid>/check-in/", custody.check_in, name="check_in"),
    path("assets/<uuid:uid>/hold/", custody.small, {"what": "hold"}, name="hold"),
    path(
        "assets/<uuid:uid>/release/", custody.small, {"what": "release"}, name="release"
    ),
    path(
        "assets/<uuid:uid>/charged/", custody.small, {"what": "charged"}, name="charged"
    ),
    path("assets/<uuid:uid>/rested/", custody.small, {"what": "rested"}, name="rested"),
    path(
        "assets/<uuid:uid>/checked/", custody.small, {"what": "checked"}, name="checked"
    ),
    path("assets/<uuid:uid>/strike/", custody.strike, name="strike"),
    path("assets/<uuid:uid>/accept/", kits.finding_accept, name="finding_accept"),
    path("assets/<uuid:uid>/reopen/", kits.finding_reopen, name="finding_reopen"),
    path("check-out/", custody.check_out, name="check_out"),
    path("charged/", custody.charged_many, name="charged_many"),
    path("out/", custody.out_list, name="out_list"),
    path("due/", due.due, name="due_list"),
    path("actions/", actions.action_list, name="action_list"),
    path("actions/add/", actions.action_add, name="action_add"),
    path("actions/<uuid:uid>/", actions.action_edit, name="action_edit"),
    path("actions/<uuid:uid>/end/", actions.action_end, name="action_end"),
    path("actions/<uuid:uid>/reopen/", actions.action_reopen, name="action_reopen"),
    path("departure/", due.gate_list, name="gate_list"),
    path("fits/", joins.matrix, name="matrix"),
    path("leads/", joins.lead_finder, name="lead_finder"),
    path("charge-by/", joins.charge_by, name="charge_by"),
    path("kits/<uuid:uid>/", kits.kit_detail, name="kit_detail"),
    path("kits/<uuid:uid>/start/", kits.kit_start, name="kit_start"),
    path("kits/<uuid:uid>/path/", kits.kit_path, name="kit_path"),
    path("kits/<uuid:uid>/charging/", kits.way_add, name="way_add"),
    path("kits/<uuid:uid>/contents/", kits.kit_contents, name="kit_contents"),
    path("kits/<uuid:uid>/versions/", kits.version_add, name="version_add"),
    path("kits/<uuid:uid>/records/", kits.kit_records, name="kit_records"),
    path("kits/<uuid:uid>/packing/", kits.packing, name="packing"),
    path("kits/<uuid:uid>/packing/tick/", kits.packing_tick, name="packing_tick"),
    path("kits/<uuid:uid>/packing/close/", kits.packing_close, name="packing_close"),
    path("kits/<uuid:uid>/stops/", kits.stops, name="stops"),
    path("kits/<uuid:uid>/card/", prints.kit_card, name="kit_card"),
    path("kits/<uuid:uid>/list/", prints.packing_list, name="packing_print"),
    path("kits/<uuid:uid>/drawing/", prints.kit_drawing, name="kit_drawing"),
    path("parts/<int:pk>/delete/", kits.part_delete, name="part_delete"),
    path("charging/<int:pk>/delete/", kits.way_delete, name="way_delete"),
    path("items/<int:pk>/edit/", kits.item_edit, name="item_edit"),
    path("items/<int:pk>/delete/", kits.item_delete, name="item_delete"),
    path("versions/<int:pk>/", kits.version_detail, name="version_detail"),
    path("notes/<int:pk>/done/", kits.note_done, name="note_done"),
    path("noises/<int:pk>/state/", kits.noise_state, name="noise_state"),
    path("spares/<int:pk>/count/", kits.spare_count, name="spare_count"),
    path("labels/", prints.labels, name="labels"),
    path("assumed/", assets.assumed, name="assumed"),
    path("import/headings/", lists.headings, name="headings"),
    path("import/<slug:kind>/", lists.import_kind, name="import"),
    path("import/<slug:kind>/<uuid:uid>/", lists.import_apply, name="import_apply"),
    path(
        "import/<slug:kind>/<uuid:uid>/columns/",
        lists.import_columns,
        name="import_columns",
    ),
    path("export/<slug:kind>/", lists.export_kind, name="export"),
    path("export/", lists.export_all, name="export_all"),
    path("equipment/", loads.equipment_list, name="equipment_list"),
    path("equipment/add/", loads.equipment_add, name="equipment_add"),
    path("equipment/<slug:key>/", loads.equipment_edit, name="equipment_edit"),
    path(
        "equipment/<slug:key>/delete/", loads.equipment_delete, name="equipment_delete"
    ),
]
