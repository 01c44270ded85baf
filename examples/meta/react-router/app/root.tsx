import { Link, Links, Meta, Outlet, Scripts } from "react-router";
import type { Route } from "./+types/root";
import { cistaContext, contextOf } from "./cista";

export const middleware: Route.MiddlewareFunction[] = [
  async ({ request, context }, next) => {
    const here = contextOf(request);
    context.set(cistaContext, here);
    const response = await next();
    if (!here.page) here.cache.dispose(); // a page is closed once its document has been sent
    return response;
  },
];

export default function Root() {
  return (
    <html lang="en">
      <head>
        <meta charSet="utf-8" />
        <title>Huts</title>
        <Meta />
        <Links />
      </head>
      <body>
        <nav>
          <Link id="to-home" to="/">
            Huts
          </Link>{" "}
          <Link id="to-hut" to="/hut/h-02">
            Tarn Shelf
          </Link>
        </nav>
        <Outlet />
        <Scripts />
      </body>
    </html>
  );
}
