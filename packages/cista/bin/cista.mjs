#!/usr/bin/env node
// The command is a package of its own, @cista/cli: an application that installs the library carries none of it.
try {
  await import("@cista/cli");
} catch (thrown) {
  if (thrown.code !== "ERR_MODULE_NOT_FOUND" || !thrown.message.includes("@cista/cli")) throw thrown;
  console.error(
    `The cista command is the package @cista/cli. Run it by: npx @cista/cli ${process.argv.slice(2).join(" ")}`,
  );
  process.exitCode = 1;
}
