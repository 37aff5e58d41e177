const path = require("node:path");
const { workspace } = require("vscode");
const { LanguageClient } = require("vscode-languageclient/node");

let client;

exports.activate = () => {
  const named = workspace.getConfiguration("bloodroot").get("command") || "bloodroot";
  const folder = workspace.workspaceFolders?.[0]?.uri.fsPath;
  // A name with a folder in it is looked for in the project.
  const command = folder && named.includes("/") ? path.resolve(folder, named) : named;
  client = new LanguageClient("bloodroot", "Bloodroot", { command, args: ["lsp"], options: { cwd: folder } }, {
    documentSelector: [{ scheme: "file", language: "bloodroot" }],
  });
  return client.start();
};

exports.deactivate = () => client?.stop();
