// Checks docs/openapi.json by the rules of a linter, the strict ones: npm run lint:api
import { createConfig, lint } from "@redocly/openapi-core";

const ref = new URL("../docs/openapi.json", import.meta.url).pathname;
const problems = await lint({ ref, config: await createConfig({ extends: ["recommended-strict"] }) });
for (const { ruleId, message, location } of problems) {
  console.error(`docs/openapi.json${location?.[0]?.pointer ?? ""}: ${message} (${ruleId})`);
}
process.exitCode = problems.length > 0 ? 1 : 0;
