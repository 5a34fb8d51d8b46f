import { z } from "zod";

/** A height of the tide. */
export const Height = z.object({ station: z.string(), centimetres: z.number().int() });
export type Height = z.infer<typeof Height>;

function rounded(value: number): number {
  return Math.round(value / 10) / 10;
}

/** The height in metres. */
export function metres(height: Height): number {
  return rounded(height.centimetres);
}
