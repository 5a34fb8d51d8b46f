import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { test } from "node:test";
import { rows } from "page";

test("each station has a row", () => {
  const stations = JSON.parse(readFileSync("stations.json", "utf8"));
  assert.equal(rows(stations).match(/<tr>/g).length, 3);
});
