import assert from "node:assert/strict";
import { test } from "node:test";
import { known } from "@skerrin/stations";

test("the stations are known", () => {
  assert.deepEqual(known().map((height) => height.station), ["ardle"]);
});
