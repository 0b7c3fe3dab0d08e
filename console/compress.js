// Writes each text file of the build compressed beside itself, for the service to serve as it is.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";

for (const entry of readdirSync("dist", { recursive: true, withFileTypes: true })) {
  const path = join(entry.parentPath, entry.name);
  if (!entry.isFile() || !/\.(html|js|css|svg)$/.test(path)) continue;
  const content = readFileSync(path);
  writeFileSync(`${path}.gz`, gzipSync(content, { level: 9 }));
  writeFileSync(`${path}.br`, brotliCompressSync(content, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } }));
}
