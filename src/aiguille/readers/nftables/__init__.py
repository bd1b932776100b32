"""Reader for nftables: `nft -j list ruleset` and the text of `nft list ruleset`, one way from the tree of statements on."""

from __future__ import annotations

from collections.abc import Sequence

from aiguille.model import Device, Setting, UnreadableError, default, unknown
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.nftables import json_form, script, text_form
from aiguille.readers.nftables.build import Builder
from aiguille.readers.part import FirewallPart, with_shipped
from aiguille.readers.stock import is_shipped

NAME = "nftables"
MAKE = "Linux netfilter (nftables)"


def recognise(file: ExportFile) -> str | None:
    """Why a file looks like a rule set of nft, in either form or as commands; None if it does not."""
    return json_form.recognise(file) or text_form.recognise(file) or script.recognise(file)


def is_script(file: ExportFile) -> bool:
    """Whether a file that was recognised holds commands of a shell, not a rule set."""
    return script.recognise(file) is not None


def read(files: Sequence[ExportFile], name: str) -> Device:
    """Read the rule set of one host.

    Raises UnreadableError if there is more than one file, or if it is cut off or holds no table.
    """
    if len(files) != 1:
        raise UnreadableError(
            f"{files[1].path}: a second rule set for '{name}' beside {files[0].path}; name each device's exports apart"
        )
    (file,) = files
    objects = {file.path: list(json_form.items(file))} if json_form.recognise(file) else {}
    ledger = LedgerBuilder((file,), {path: [where for *_, where in found] for path, found in objects.items()})
    part = read_part(file, objects.get(file.path), ledger)
    return Device(
        name=name,
        dialect=NAME,
        make=MAKE,
        sources=(file.source,),
        ledger=ledger.finish(),
        firmware=part.firmware,
        rulebases=part.rulebases,
        sets=part.sets,
    )


def read_part(file: ExportFile, objects: list[json_form.Item] | None, ledger: LedgerBuilder) -> FirewallPart:
    """The rule bases and sets of a rule set; objects: those of its JSON form, None if it is text."""
    firmware: Setting[str] = unknown()
    for kind, body, where in objects or ():
        if kind == "metainfo" and isinstance(body, dict):
            ledger.read(where)
            firmware = default(f"nft {body.get('version', '')}".strip(), where)
    builder = Builder(file.path, ledger)
    if objects is None:
        objects = (script if is_script(file) else text_form).items(file, ledger)
    for kind, body, where in objects:
        builder.add(kind, body, where)
    rulebases, sets = builder.finish()
    return FirewallPart(with_shipped(rulebases, is_shipped), sets, firmware=firmware)
