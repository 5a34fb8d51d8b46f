import { metres } from "@skerrin/heights";
import { known } from "@skerrin/stations";

/** A line for each station. */
export function lines(unit: string): string[] {
  return known().map((height) => `${height.station} ${metres(height)} ${unit}`);
}
