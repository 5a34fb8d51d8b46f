import { readFileSync } from "node:fs";
import { Height } from "@skerrin/heights";

/** All heights that are known. */
export function known(): Height[] {
  const text = readFileSync(new URL("../stations.json", import.meta.url), "utf8");
  return Height.array().parse(JSON.parse(text));
}
