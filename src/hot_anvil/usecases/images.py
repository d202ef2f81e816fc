"""Where code and data of a workspace's builds end up."""

from collections.abc import Sequence

from hot_anvil.core.arch import has_objects
from hot_anvil.core.binary.image_map import BuildImage, Section, read_map
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.errors import RequestError
from hot_anvil.system.build.demangling import demangled
from hot_anvil.system.build.link_time import link_whole
from hot_anvil.workspace import Workspace, usecase


@usecase
def make_images(
    workspace: Workspace, builds: Sequence[str], snippets: Sequence[str]
) -> tuple[BuildImage, ...]:
    """Return the map of each snippet's image under the builds named, all of the grid for none."""
    chosen = [workspace.build(name) for name in builds] or list(workspace.plan.builds)
    compiled = workspace.compile(snippets, list(dict.fromkeys(chosen)))
    if not compiled:
        raise RequestError("these builds have no compiler for any source asked for.")
    return tuple(_image(workspace, one) for one in compiled)


def _image(workspace: Workspace, built: Built) -> BuildImage:
    name, build, flags = built.snippet.name, built.build.name, built.snippet.link_flags
    if built.status != COMPILED:
        return BuildImage(name, build, (), f"refused: {built.why}", flags, {})
    chain = workspace.toolchain(built.build)
    if not has_objects(chain.isa):
        why = f"{chain.name} makes no object here"
        return BuildImage(name, build, (), why, flags, {})
    found = workspace.found
    whole = built.whole or link_whole(built, found.toolchains, found.families, workspace.store)
    sections: tuple[Section, ...] = ()
    if whole.status == COMPILED:
        file = workspace.store.artefact(whole.artefact).image
        sections = read_map(file.read_bytes())
    else:
        for unit in built.units:
            data = workspace.store.artefact(unit.artefact).object.read_bytes()
            sections += read_map(data, unit.source)
    symbols = [t.name for s in sections for t in s.things if t.name.startswith(("_Z", "_R"))]
    with workspace.store.workplace() as work:
        titles = demangled(symbols, work)
    return BuildImage(name, build, sections, whole.why, flags, titles)
