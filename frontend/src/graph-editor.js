// The editor of the graph explorer: completion, checking and colours from the schema that the reader may see.
//
// It stands in a shadow root, so that its styles come by constructed sheets, which the pages' content policy lets in. The
// text area behind it stays the form's field: it works without this, and other scripts read and write it.

import { autocompletion, closeBrackets, closeBracketsKeymap, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { HighlightStyle, bracketMatching, indentOnInput, syntaxHighlighting } from "@codemirror/language";
import { lintKeymap } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, drawSelection, keymap } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { graphql, updateSchema } from "cm6-graphql";
import { buildSchema } from "graphql";

const look = EditorView.theme({
  "&": { color: "var(--ink)", backgroundColor: "var(--sheet)", fontSize: "12.5px" },
  "&.cm-focused": { outline: "none" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "1.5" },
  ".cm-content": { caretColor: "var(--ink)", minHeight: "180px", padding: "8px 4px" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": {
    background: "var(--gold-wash)",
  },
  "&.cm-focused .cm-matchingBracket": { backgroundColor: "var(--lichen-wash)" },
  ".cm-tooltip": { backgroundColor: "var(--sheet)", border: "1px solid var(--rule-strong)", color: "var(--ink)" },
  ".cm-tooltip.cm-tooltip-autocomplete > ul": { fontFamily: "var(--font-mono)", fontSize: "12.5px" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { background: "var(--gold-wash)", color: "var(--ink)" },
  ".cm-completionMatchedText": { textDecoration: "none", fontWeight: "700" },
  ".cm-completionDetail": { color: "var(--ink-faint)", fontStyle: "normal" },
  ".cm-completionIcon": { display: "none" },
  ".cm-tooltip.cm-completionInfo": { fontFamily: "var(--font-sans)", padding: "6px 9px", maxWidth: "280px" },
  ".cm-diagnostic": { fontFamily: "var(--font-sans)", borderLeftColor: "var(--rust)" },
  ".cm-lintRange-error": {
    backgroundImage: "none",
    textDecoration: "underline wavy var(--rust)",
    textUnderlineOffset: "3px",
  },
});

const colours = HighlightStyle.define([
  { tag: [tags.keyword, tags.definitionKeyword, tags.modifier], color: "var(--gold)" },
  { tag: [tags.typeName, tags.atom], color: "var(--lake)" },
  { tag: [tags.variableName, tags.special(tags.name)], color: "var(--bark)" },
  { tag: [tags.string, tags.number, tags.integer, tags.float, tags.bool], color: "var(--lichen)" },
  { tag: tags.comment, color: "var(--ink-faint)" },
  { tag: [tags.bracket, tags.paren, tags.brace, tags.squareBracket], color: "var(--ink-soft)" },
]);

// What is selected, as the browser has it: the editor may not have heard of it yet.
function selected(view) {
  const shown = view.root.getSelection?.();
  if (!shown?.anchorNode || !view.contentDOM.contains(shown.anchorNode) || !view.contentDOM.contains(shown.focusNode)) {
    const { from, to } = view.state.selection.main;
    return [from, to];
  }
  const ends = [
    view.posAtDOM(shown.anchorNode, shown.anchorOffset),
    view.posAtDOM(shown.focusNode, shown.focusOffset),
  ];
  return ends.sort((one, other) => one - other);
}

// What is typed over a selection, or deletes one, is done by the editor. Left to the browser, it would try to keep the look
// of what goes by an inline style, which the pages' content policy does not let in.
const replacing = EditorView.domEventHandlers({
  beforeinput(event, view) {
    const deletes = event.inputType.startsWith("delete");
    if (view.composing || !(deletes || (event.inputType === "insertText" && event.data !== null))) return false;
    const [from, to] = selected(view);
    if (from === to) return false;
    event.preventDefault();
    const insert = deletes ? "" : event.data;
    const change = () =>
      view.state.update({
        changes: { from, to, insert },
        selection: { anchor: from + insert.length },
        userEvent: deletes ? "delete.selection" : "input.type",
        scrollIntoView: true,
      });
    const taken =
      !deletes && view.state.facet(EditorView.inputHandler).some((handler) => handler(view, from, to, insert, change));
    if (!taken) view.dispatch(change());
    return true;
  },
});

// What the schema says of a completion, as plain text.
function told(item) {
  const words = [item.documentation, item.isDeprecated && `deprecated: ${item.deprecationReason || ""}`].filter(Boolean);
  if (!words.length) return null;
  const node = document.createElement("div");
  node.textContent = words.join(" — ");
  return node;
}

// A field that is clicked with Ctrl or Cmd opens its type beside the editor.
function showInDocs(field, type, parent) {
  const wanted = new Set([type, parent].filter(Boolean));
  const found = [...document.querySelectorAll('[aria-label="Schema"] details')].find((one) =>
    wanted.has(one.querySelector("summary code")?.textContent),
  );
  if (found) {
    found.open = true;
    found.scrollIntoView({ block: "nearest" });
  }
}

async function learn(view, address) {
  const answer = await fetch(address, { headers: { Accept: "text/plain" } });
  if (answer.ok) updateSchema(view, buildSchema(await answer.text(), { assumeValidSDL: true }));
}

function begin(area) {
  const label = area.labels?.[0];
  const host = document.createElement("div");
  host.className = "graph-editor";
  const root = host.attachShadow({ mode: "open" });
  area.after(host);
  area.hidden = true;
  let following = false;
  const view = new EditorView({
    root,
    parent: root,
    state: EditorState.create({
      doc: area.value,
      extensions: [
        history(),
        drawSelection(),
        indentOnInput(),
        bracketMatching(),
        replacing,
        closeBrackets(),
        autocompletion(),
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ "aria-label": label?.textContent || "Document", spellcheck: "false" }),
        keymap.of([
          ...closeBracketsKeymap,
          ...defaultKeymap.filter((one) => one.key !== "Mod-Enter"), // that runs the form
          ...historyKeymap,
          ...completionKeymap,
          ...lintKeymap,
        ]),
        ...graphql(undefined, { onShowInDocs: showInDocs, onCompletionInfoRender: told }),
        syntaxHighlighting(colours),
        look,
        EditorView.updateListener.of((update) => {
          if (!update.docChanged || following) return;
          area.value = update.state.doc.toString();
          area.dispatchEvent(new Event("input", { bubbles: true }));
        }),
      ],
    }),
  });
  if (label) {
    label.removeAttribute("for");
    label.addEventListener("click", () => view.focus());
  }
  area.addEventListener("input", () => {
    const now = view.state.doc.toString();
    if (area.value === now) return;
    following = true;
    view.dispatch({ changes: { from: 0, to: now.length, insert: area.value } });
    following = false;
  });
  if (area.dataset.schema) learn(view, area.dataset.schema);
}

const areas = [...document.querySelectorAll("textarea[data-document]")];
areas.forEach(begin);
// What was typed before the page's other scripts were here was heard by none of them.
window.addEventListener("load", () =>
  areas
    .filter((area) => area.value !== area.defaultValue)
    .forEach((area) => area.dispatchEvent(new Event("typed-early"))),
);
