"""Classes that nothing derives from: virtual calls of them have one goal."""

from collections.abc import Iterator

from hot_anvil.core.experiments.records import Experiment
from hot_anvil.core.experiments.subject import Subject
from hot_anvil.core.experiments.syntax import descend

LANGUAGES = ("c++",)


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give one for each class with virtual functions that has a base or none derived here."""
    classes = []
    bases: set[str] = set()
    for source in subject.sources.values():
        for node in descend(source.root):
            if node.type not in ("class_specifier", "struct_specifier"):
                continue
            name, body = node.child_by_field_name("name"), node.child_by_field_name("body")
            if name is None or body is None:
                continue
            for child in node.children:
                if child.type == "base_class_clause":
                    words = (source.words(n) for n in descend(child) if "identifier" in n.type)
                    bases |= set(words)
            words_of = source.words(body).replace("(", " ").split()
            derived = any(child.type == "base_class_clause" for child in node.children)
            if "virtual" in words_of or "override" in words_of or derived:
                classes.append((source, name))
    for source, name in classes:
        if (
            source.words(name) in bases
            or "final" in source.words(name.parent or name).split("{")[0]
        ):
            continue
        yield Experiment(
            f"final {source.words(name)}",
            "which function a virtual call reaches is known only when it runs",
            f"no class derives from {source.words(name)}",
            edits=(source.after(name, " final"),),
        )
