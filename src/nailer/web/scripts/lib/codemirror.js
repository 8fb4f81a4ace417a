// The library's parts that the editor and the comparison use.
export { EditorState, Compartment, StateEffect } from "@codemirror/state";
export {
  EditorView,
  keymap,
  lineNumbers,
  highlightActiveLine,
  highlightActiveLineGutter,
  drawSelection,
  dropCursor,
  highlightSpecialChars,
} from "@codemirror/view";
export { defaultKeymap, history, historyKeymap, historyField, indentWithTab, undo, redo } from "@codemirror/commands";
export { search, searchKeymap, openSearchPanel, gotoLine, highlightSelectionMatches } from "@codemirror/search";
export {
  bracketMatching,
  indentOnInput,
  indentUnit,
  syntaxHighlighting,
  HighlightStyle,
  StreamLanguage,
  foldGutter,
  foldKeymap,
} from "@codemirror/language";
export { lintGutter, setDiagnostics, nextDiagnostic } from "@codemirror/lint";
export { unifiedMergeView, MergeView, goToNextChunk, goToPreviousChunk } from "@codemirror/merge";
export { closeBrackets, closeBracketsKeymap, autocompletion, completionKeymap } from "@codemirror/autocomplete";
export { tags } from "@lezer/highlight";
import { html } from "@codemirror/lang-html";
import { css } from "@codemirror/lang-css";
import { javascript } from "@codemirror/lang-javascript";
import { json } from "@codemirror/lang-json";
import { php } from "@codemirror/lang-php";
import { python } from "@codemirror/lang-python";
import { xml } from "@codemirror/lang-xml";
import { yaml } from "@codemirror/lang-yaml";
import { markdown } from "@codemirror/lang-markdown";
import { sql } from "@codemirror/lang-sql";
import { StreamLanguage } from "@codemirror/language";
import { perl } from "@codemirror/legacy-modes/mode/perl";
import { shell } from "@codemirror/legacy-modes/mode/shell";
import { properties } from "@codemirror/legacy-modes/mode/properties";
export const languages = {
  html,
  css,
  javascript,
  json,
  php,
  python,
  xml,
  yaml,
  markdown,
  sql,
  perl: () => StreamLanguage.define(perl),
  shell: () => StreamLanguage.define(shell),
  ini: () => StreamLanguage.define(properties),
};
