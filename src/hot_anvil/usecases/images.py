"""Where code and data of a workspace's builds end up."""

from collections.abc import Sequence

from hot_anvil.core.arch import architecture, has_objects
from hot_anvil.core.binary.image_map import BuildImage, Section, read_map
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.system.build.demangling import titles_of
from hot_anvil.system.build.link_time import link_whole
from hot_anvil.workspace import Workspace, usecase


@usecase
def make_images(
    workspace: Workspace, builds: Sequence[str], snippets: Sequence[str]
) -> tuple[BuildImage, ...]:
    """Return the map of each snippet's image under the builds named, all of the grid for none."""
    compiled = workspace.compile_named(builds, snippets)
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
    low_bit = architecture(chain.isa).tooling.low_bit_is_mode
    sections: tuple[Section, ...] = ()
    if whole.status == COMPILED:
        file = workspace.store.artefact(whole.artefact).image
        sections = read_map(file.read_bytes(), low_bit)
    else:
        for unit in built.units:
            data = workspace.store.artefact(unit.artefact).object.read_bytes()
            sections += read_map(data, low_bit, unit.source)
    symbols = [thing.name for section in sections for thing in section.things]
    titles = titles_of(symbols, workspace.store)
    return BuildImage(name, build, sections, whole.why, flags, titles)
