import { here, withFiles, withOrigin, withPage } from "../stage.mjs";

/**
 * The board's own components under a clock that the script moves, in Chromium, against an origin.
 * @param work gets the page, when all of it has been loaded, and the origin
 * @param options those of `withFiles`, and `search`: of the page's address
 */
export function onStage(work, { search = "", ...options } = {}) {
  return withFiles(
    here("hour/page.tsx"),
    (files) =>
      withOrigin(async (startOrigin) => {
        const origin = await startOrigin({ files });
        try {
          return await withPage(async (page) => {
            await page.goto(`${origin.url}/${search}#h-07`);
            await page.getByText("litres in the tank").waitFor();
            return work(page, origin);
          });
        } finally {
          await origin.close();
        }
      }),
    options,
  );
}
