"""A person's own settings: a TOML file in the platform's place for them."""

import json
from functools import cache
from pathlib import Path

from hot_anvil.core.build.project_flags import project_flags
from hot_anvil.core.config.reading import read_settings
from hot_anvil.core.config.records import Bench, Settings
from hot_anvil.errors import RequestError
from hot_anvil.system.store.files import parse_toml

_NOTHING = Settings((), {})


@cache
def settings_file() -> Path:
    """Return where the settings are looked for."""
    import platformdirs

    return Path(platformdirs.user_config_dir("hot-anvil")) / "settings.toml"


def load_settings() -> Settings:
    """Return the person's settings, empty ones where there is no file."""
    file = settings_file()
    try:
        text = file.read_text()
        tables = parse_toml(text)
    except FileNotFoundError:
        return _NOTHING
    except OSError as error:
        raise RequestError(f"{file}: cannot be read ({error.strerror}).") from None
    except UnicodeDecodeError:
        raise RequestError(f"{file}: is not UTF-8 text, as TOML must be.") from None
    except ValueError as error:
        raise RequestError(f"{file}: is not valid TOML: {error}.") from None
    found = read_settings(tables, text, str(file))
    here = [c._replace(command=str(Path(file.parent, c.command))) for c in found.custom]
    return found._replace(custom=tuple(here))


def with_settings(bench: Bench) -> Bench:
    """Return the bench with the person's settings under its own."""
    settings = load_settings()
    own = {custom.name for custom in bench.custom}
    more = tuple(custom for custom in settings.custom if custom.name not in own)
    return bench._replace(
        custom=(*bench.custom, *more), defaults={**settings.defaults, **bench.defaults}
    )


def with_project_flags(bench: Bench, file: str = "") -> Bench:
    """Return the bench with the flags of the projects that its snippets come from.

    ``file`` stands for all snippets, in place of their own ``from``.
    """
    if not file and not any(snippet.project for snippet in bench.snippets):
        return bench
    snippets = []
    for snippet in bench.snippets:
        path = Path(file) if file else Path(bench.root, snippet.project)
        if not file and not snippet.project:
            snippets.append(snippet)
            continue
        path = path / "compile_commands.json" if path.is_dir() else path
        entries = _read(path)
        flags = {
            source: project_flags(entries, str(Path(bench.root, source).resolve()), str(path))
            for source in snippet.sources
        }
        snippets.append(snippet._replace(project_flags=flags))
    return bench._replace(snippets=tuple(snippets))


def _read(path: Path) -> object:
    try:
        return json.loads(path.read_bytes())
    except OSError as error:
        raise RequestError(f"{path}: cannot be read ({error.strerror}).") from None
    except ValueError as error:
        raise RequestError(f"{path}: is not valid JSON: {error}.") from None
