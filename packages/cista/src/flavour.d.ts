/**
 * Whether texts, checks and warnings for developers are there. The build puts `true` in its place for the export
 * condition "development", `false` for "production", and a comparison of `process.env.NODE_ENV` for all others.
 */
declare const DEVELOPMENT: boolean;
