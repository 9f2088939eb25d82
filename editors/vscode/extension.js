// The extension starts the language server, and ends it.
const vscode = require("vscode");
const { LanguageClient } = require("vscode-languageclient/node");

let client;

exports.activate = async () => {
  const command = vscode.workspace.getConfiguration("erbario").get("command") || "erbario";
  client = new LanguageClient("erbario", "Erbario", { command, args: ["editor"] }, {
    documentSelector: [
      { scheme: "file", language: "erbario" },
      { scheme: "file", pattern: "**/migrations/*.sql" },
    ],
  });
  try {
    await client.start();
  } catch (error) {
    vscode.window.showErrorMessage(`${command} editor does not start: ${error.message}. Set erbario.command to the program.`);
  }
};

exports.deactivate = () => client && client.stop();
