/**
 * HTTP responses as answers, by the RFCs; docs/http.md says which parts of a response count.
 * @module cista/http
 */

export { parseCacheControl } from "./cache-control.js";
export type {
  CheckedHttpSourceDefinition,
  EventsDefinition,
  GraphqlDefinition,
  GraphqlWriteDefinition,
  HeaderFields,
  HeadersOf,
  HttpSourceDefinition,
  HttpWriteDefinition,
  ListPage,
  Origin,
  OriginOptions,
  Pages,
  PagesDefinition,
  SourceOptions,
  TypedDocument,
  Url,
} from "./contract.js";
export { eventsFrom } from "./events.js";
export { graphqlFrom } from "./graphql.js";
export { graphqlTo } from "./graphql-write.js";
export { httpDate } from "./http-date.js";
export { invalidateAfter } from "./invalidate.js";
export { parseLink } from "./link.js";
export { type AnswerOptions, answerOf } from "./load.js";
export { origin } from "./origin.js";
export { appendPage, pagesFrom, prependPage } from "./pages.js";
export { path } from "./path.js";
export { problemsByField } from "./problem-fields.js";
export { type QueryObject, type QueryStyle, type QueryValue, withQuery } from "./query-string.js";
export { freshnessOf, type Times } from "./response-freshness.js";
export { parseStringList } from "./structured-fields.js";
export { type UploadProgress, uploadFetch } from "./upload-fetch.js";
export { writeTo } from "./write-to.js";
