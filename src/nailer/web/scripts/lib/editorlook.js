// How the editor looks and what its keys do: Nailer's colours, light and dark by the page's own tokens.
const ENDINGS = {
  html: /\.(x?html?|shtml|svg|tpl|inc)$/i,
  css: /\.css$/i,
  javascript: /\.(m?js|cjs|ts)$/i,
  json: /\.(json|webmanifest|map)$/i,
  php: /\.(php\d?|phtml)$/i,
  python: /\.py$/i,
  xml: /\.(xml|rss|atom|xsl)$/i,
  yaml: /\.ya?ml$/i,
  markdown: /\.(md|markdown)$/i,
  sql: /\.sql$/i,
  perl: /\.(pl|pm)$/i,
  shell: /\.(sh|bash)$/i,
  ini: /(\.(ini|cfg|conf|properties|env|toml)|^\.(htaccess|htpasswd|env.*|user\.ini))$/i,
};
const FIRST_LINES = { perl: /^#!.*perl/, python: /^#!.*python/, shell: /^#!.*sh\b/, php: /^(#!.*php|<\?php)/ };

export function languageOf(cm, name, text) {
  const kind =
    Object.keys(ENDINGS).find((one) => ENDINGS[one].test(name)) ||
    Object.keys(FIRST_LINES).find((one) => FIRST_LINES[one].test(text));
  return kind ? cm.languages[kind]() : [];
}

// `own`: the person's own size of text, in pixels, and whether long lines go on below.
export function look(cm, name, own = {}) {
  const { tags } = cm;
  const colours = cm.HighlightStyle.define([
    { tag: [tags.comment, tags.meta], color: "var(--muted)", fontStyle: "italic" },
    { tag: [tags.keyword, tags.tagName, tags.operatorKeyword], color: "var(--there)" },
    { tag: [tags.string, tags.attributeValue, tags.regexp], color: "var(--good)" },
    { tag: [tags.attributeName, tags.propertyName, tags.className], color: "var(--here)" },
    { tag: [tags.number, tags.bool, tags.null, tags.atom, tags.color, tags.unit], color: "var(--clash)" },
    { tag: [tags.heading, tags.strong], fontWeight: "600" },
    { tag: tags.emphasis, fontStyle: "italic" },
    { tag: tags.link, textDecoration: "underline" },
    { tag: tags.invalid, color: "var(--bad)" },
  ]);
  const theme = cm.EditorView.theme({
    "&": {
      position: "absolute",
      inset: "0",
      backgroundColor: "var(--card)",
      color: "var(--ink)",
      fontSize: `${own.text || 13}px`,
    },
    "&.cm-focused": { outline: "none" },
    ".cm-scroller": { fontFamily: "var(--mono)", lineHeight: "1.6", fontVariantLigatures: "none" },
    ".cm-gutters": { backgroundColor: "var(--card)", color: "var(--faint)", border: "none" },
    ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--here-tint)" },
    ".cm-cursor": { borderLeftColor: "var(--ink)" },
    "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": {
      backgroundColor: "var(--here-soft)",
    },
    ".cm-selectionMatch, .cm-searchMatch": { backgroundColor: "var(--warn-soft)" },
    ".cm-searchMatch-selected": { backgroundColor: "var(--here-line)" },
    ".cm-matchingBracket, &.cm-focused .cm-matchingBracket": {
      backgroundColor: "var(--here-soft)",
      outline: "1px solid var(--here-line)",
    },
    ".cm-panels": {
      backgroundColor: "var(--paper)",
      color: "var(--ink)",
      borderColor: "var(--line)",
      fontFamily: "var(--font)",
    },
    ".cm-panels input, .cm-panels button": {
      fontSize: "13px",
      color: "var(--ink)",
      background: "var(--card)",
      border: "1px solid var(--line-strong)",
      borderRadius: "8px",
      padding: "2px 8px",
    },
    ".cm-panels label": { fontSize: "12px" },
    ".cm-tooltip": {
      backgroundColor: "var(--card)",
      color: "var(--ink)",
      border: "1px solid var(--line-strong)",
      borderRadius: "8px",
      fontFamily: "var(--font)",
    },
    ".cm-tooltip-autocomplete > ul > li[aria-selected]": { backgroundColor: "var(--here)", color: "var(--on-here)" },
    ".cm-diagnostic-error": { borderLeft: "4px solid var(--bad)" },
    ".cm-diagnostic-warning": { borderLeft: "4px solid var(--warn)" },
    ".cm-changedLine, .cm-insertedLine, &.cm-merge-b .cm-changedLine": { backgroundColor: "var(--good-soft)" },
    ".cm-deletedChunk, .cm-deletedLine": { backgroundColor: "var(--bad-soft)" },
    ".cm-changedText, &.cm-merge-b .cm-changedText": { background: "none", borderBottom: "2px solid var(--good)" },
    ".cm-deletedChunk .cm-deletedText, .cm-deletedText": { background: "none", textDecoration: "line-through" },
    ".cm-changeGutter": { width: "4px" },
    ".cm-changedLineGutter": { backgroundColor: "var(--good)" },
    ".cm-deletedLineGutter": { backgroundColor: "var(--bad)" },
    ".cm-chunkButtons .merge-choice": {
      margin: "2px 4px",
      padding: "1px 8px",
      border: "1px solid var(--line-strong)",
      borderRadius: "6px",
      background: "var(--card)",
      color: "var(--ink)",
      font: "600 12px var(--font)",
      cursor: "pointer",
    },
    ".cm-chunkButtons .merge-choice.take": { color: "var(--clash)" },
    ".cm-collapsedLines::before, .cm-collapsedLines::after": { content: "none" },
    ".cm-collapsedLines": { color: "var(--muted)", background: "var(--paper)", fontFamily: "var(--font)" },
    ".cm-foldPlaceholder": { backgroundColor: "var(--paper)", border: "1px solid var(--line)", color: "var(--muted)" },
  });
  const keys = [
    // Before the search's own keys, one of which is the same.
    { key: "Mod-g", run: cm.gotoLine, preventDefault: true },
    ...cm.closeBracketsKeymap,
    ...cm.defaultKeymap,
    ...cm.searchKeymap,
    ...cm.historyKeymap,
    ...cm.foldKeymap,
    ...cm.completionKeymap,
  ];
  return [
    cm.lineNumbers(),
    cm.foldGutter(),
    cm.lintGutter(),
    cm.highlightActiveLine(),
    cm.highlightActiveLineGutter(),
    cm.highlightSpecialChars(),
    cm.history(),
    cm.drawSelection(),
    cm.dropCursor(),
    cm.indentOnInput(),
    cm.bracketMatching(),
    cm.closeBrackets(),
    cm.autocompletion(),
    cm.search({ top: true }),
    cm.highlightSelectionMatches(),
    cm.EditorView.contentAttributes.of({ tabindex: "0" }),
    cm.indentUnit.of(/\.(py|php|pl)$/i.test(name) ? "    " : "  "),
    cm.syntaxHighlighting(colours),
    theme,
    own.wraps ? cm.EditorView.lineWrapping : [],
    cm.keymap.of(keys),
  ];
}
