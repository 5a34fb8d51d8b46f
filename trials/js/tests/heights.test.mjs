import assert from "node:assert/strict";
import { test } from "node:test";
import { Height, metres } from "@skerrin/heights";

test("a height is read", () => {
  assert.equal(metres(Height.parse({ station: "ardle", centimetres: 412 })), 4.1);
});

test("what is no height is refused", () => {
  assert.throws(() => Height.parse({ station: 7 }));
});
