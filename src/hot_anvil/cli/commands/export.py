"""``hot-anvil export``."""

import argparse
import json
import re
import sys

from hot_anvil.cli.answering import answer_document
from hot_anvil.cli.options import add_bench, open_anvil
from hot_anvil.cli.output import Output
from hot_anvil.core.names import listed, visible

ENDING = ".anvil.zip"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_bench(parser)


def run(args: argparse.Namespace, out: Output) -> int:
    """Write one file with a bench, its answers, its page and its code."""
    from hot_anvil.api import save_export
    from hot_anvil.views.page.render import page_html

    anvil = open_anvil(args, out)
    exported = anvil.export(args.snippet)
    more = {"page.html": page_html(exported.page).encode(errors="surrogateescape")}
    for kept in exported.answers:
        plain = answer_document(kept.answer)
        name = f"answers/{kept.number}-{kept.answer.command}.document.json"
        more[name] = json.dumps(plain, indent=1).encode()
    title = re.sub(r"[^\w.-]+", "-", anvil.bench.title.lower()).strip("-") or "bench"
    name = args.out or f"{title}{ENDING}"
    out.stop_progress()
    save_export(name, exported, more)
    sys.stdout.write(
        f"{visible(name)}: {len(exported.page.snippets)} snippets, {len(exported.answers)} answers "
        f"and the code of every build; 'hot-anvil import {visible(name)}' lays it out\n"
    )
    if exported.left_out:
        sys.stdout.write(
            f"left out, as they lie outside the bench: {visible(listed(exported.left_out))}\n"
        )
    return 0


FORMS = ("zip",)
