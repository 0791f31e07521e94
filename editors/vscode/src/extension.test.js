"use strict";
// The package as an editor loads it: a stand-in for the editor's own module, and the real service at the other end.

const assert = require("node:assert");
const Module = require("node:module");
const path = require("node:path");
const test = require("node:test");

const built = path.join(__dirname, "..", "dist", "extension.js");

/** A module that answers to every name: as much of an editor as it takes to load the package. */
function anything() {
  const target = function () {};
  return new Proxy(target, {
    get: (_, name) => (name === Symbol.toPrimitive ? () => "" : name === "then" ? undefined : anything()),
    apply: () => anything(),
    construct: () => anything(),
  });
}

test("the package loads, and every command it names in its manifest is there", () => {
  const load = Module._load;
  Module._load = (name, ...rest) => (name === "vscode" ? anything() : load(name, ...rest));
  const extension = require(built);
  Module._load = load;
  assert.equal(typeof extension.activate, "function");
  assert.equal(typeof extension.deactivate, "function");
  const manifest = require("../package.json");
  const named = manifest.contributes.commands.map((command) => command.command).sort();
  assert.deepEqual(named, Object.keys(extension.COMMANDS).sort());
});
