// An editor with a setup of the mill and the schema of setups: completion is open at a key of a channel.
import { EditorView, basicSetup } from "codemirror";
import { completionStatus, startCompletion } from "@codemirror/autocomplete";
import { hoverTooltip } from "@codemirror/view";
import { linter } from "@codemirror/lint";
import { yaml, yamlLanguage } from "@codemirror/lang-yaml";
import { stateExtensions, handleRefresh } from "codemirror-json-schema";
import { yamlCompletion, yamlSchemaHover, yamlSchemaLinter } from "codemirror-json-schema/yaml";
import schema from "../../src/leitwerk/schemas/setup.schema.json";

const text = `# yaml-language-server: $schema=setup.schema.json
leitwerk: 1
title: Kiln 2, spring drying run
device:
  model: fichte-8
  at: modbus+tcp://127.0.0.1:5020?unit=3
  serial: K2-00417
sample: every 10 s
channels:
  air_top:
    label: Air above the stack
    terminal: 1
    sensor: Pt100, 4-wire
    expect: 21.5 ± 0.5 °C
    s
`;
const view = new EditorView({
  doc: text,
  parent: document.getElementById("editor"),
  extensions: [
    basicSetup,
    yaml(),
    linter(yamlSchemaLinter(), { needsRefresh: handleRefresh }),
    yamlLanguage.data.of({ autocomplete: yamlCompletion() }),
    hoverTooltip(yamlSchemaHover()),
    stateExtensions(schema),
    EditorView.theme({ "&": { fontSize: "17px", height: "100%" }, ".cm-content": { fontFamily: "DejaVu Sans Mono, monospace" } }),
  ],
});
view.dispatch({ selection: { anchor: text.length - 1 } });
view.focus();
window.view = view;
// The list may be closed again while the page is still being laid out.
setInterval(() => completionStatus(view.state) ?? (view.focus(), startCompletion(view)), 300);
