"""Makes docs/guide.md of the application's own texts. Run from anywhere, with the project's Python."""

from pathlib import Path

from dolce.web.help.terms import groups, guide_text, keys

ROOT = Path(__file__).parents[1]


def guide() -> str:
    """The guide with words, figures and keys behind it, as the application shows them."""
    parts = [guide_text().rstrip(), "", "## Words and figures", ""]
    for group, terms in groups().items():
        parts += [f"### {group.capitalize()}", "", *(f"- **{term.name}.** {term.words}" for term in terms), ""]
    parts += ["## Keys", "", *(f"- `{key}`: {what}" for key, what in keys().items()), ""]
    return "\n".join(parts)


if __name__ == "__main__":
    (ROOT / "docs" / "guide.md").write_text(guide(), encoding="utf-8")
