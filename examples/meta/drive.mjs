// What a visitor does, in a browser: opens the list, follows a link to a hut, stars it, goes back, opens a hut directly. After each
// step: what the page shows, and what was asked for by the server and by the browser.

const shown = (page) =>
  page.evaluate(() =>
    Object.fromEntries(
      [...document.querySelectorAll("[data-shown]")].map((each) => [each.dataset.shown, each.textContent.trim()]),
    ),
  );

/** Until nothing more is asked for, and nothing on the page is still loading. */
async function settled(page, origin) {
  for (let last = "", same = 0; same < 8; ) {
    await page.waitForTimeout(100);
    const now = JSON.stringify([await shown(page), origin.countAsked()]);
    same = now === last && !now.includes('"loading"') ? same + 1 : 0;
    last = now;
  }
}

/** @returns a step for each of what the visitor did, and all that the browser's console has said */
export async function visit(browser, origin, visitor = "Wrenfield") {
  const context = await browser.newContext();
  await context.addCookies([{ name: "visitor", value: visitor, url: origin.url }]);
  const page = await context.newPage();
  const console = [];
  page.on("console", (message) => {
    if (/warning|error/.test(message.type())) console.push(message.text());
  });
  page.on("pageerror", (thrown) => console.push(String(thrown)));
  const steps = {};
  const note = async (step, doing) => {
    origin.takeAsked();
    const response = await doing();
    await settled(page, origin);
    steps[step] = { ...origin.takeAsked(), shown: await shown(page), status: response?.status?.() };
  };
  const html = { list: "" };
  await note("list", async () => {
    const response = await page.goto(`${origin.url}/`);
    html.list = await response.text();
    return response;
  });
  await note("to the hut", async () => {
    await page.click("#to-hut");
    await page.waitForSelector("[data-shown=hut]");
  });
  await note("star", () => page.click("#star"));
  await note("back to the list", async () => {
    await page.click("#to-home");
    await page.waitForSelector("[data-shown=huts]");
  });
  await note("the hut directly", () => page.goto(`${origin.url}/hut/h-03`));
  const before = console.length;
  await note("no such hut", () => page.goto(`${origin.url}/hut/h-99`));
  console.splice(before); // the browser tells of the 404 itself
  await context.close();
  return { steps, console, html };
}

/** Twelve documents for two visitors at once: of each its own values, and of nobody else's. */
export async function twoVisitors(origin) {
  const all = Array.from({ length: 12 }, (_, at) => (at % 2 ? ["Wrenfield", "Ashgrove"] : ["Ashgrove", "Wrenfield"]));
  const wrong = [];
  await Promise.all(
    all.map(async ([own, other]) => {
      const response = await fetch(`${origin.url}/`, { headers: { cookie: `visitor=${own}` } });
      const html = await response.text();
      if (!html.includes(own) || html.includes(other))
        wrong.push(`${own}: ${html.length} bytes with ${html.includes(other) ? other : "nobody"}`);
    }),
  );
  return wrong;
}
