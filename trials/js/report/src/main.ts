import { Command } from "commander";
import { lines } from "./index.js";

const command = new Command().option("-u, --unit <unit>", "the unit", "m").parse();
for (const line of lines(command.opts<{ unit: string }>().unit)) {
  console.log(line);
}
