/** A page's own colours win: it sets these properties on the element, or above it. */
export const style = `
:host { display: inline-block; position: relative; font: 0.8125rem/1.5 system-ui, sans-serif; color: var(--lamp-text, inherit); }
* { box-sizing: border-box; }
button, summary { font: inherit; color: inherit; cursor: pointer; }
.lamp { display: inline-flex; align-items: center; gap: 0.4rem; min-height: 1.5rem; padding: 0; border: 0; background: none; text-align: start; font-variant-numeric: tabular-nums; }
:focus-visible { outline: 2px solid var(--lamp-light, #d98b16); outline-offset: 2px; }
svg { flex: none; }
.frame { fill: none; stroke: currentColor; stroke-width: 1.2; stroke-linecap: round; }
.light, .flame { fill: var(--lamp-light, #d98b16); }
.flame { transform-origin: 8px 16px; animation: flicker 0.9s ease-in-out infinite alternate; }
@keyframes flicker { from { transform: scale(0.9, 0.85); } to { transform: scale(1.05, 1.15); } }
@media (prefers-reduced-motion: reduce) { .flame { animation: none; } }
.card { position: absolute; z-index: 10; inset-block-start: 100%; inset-inline-start: 0; inline-size: min(26rem, 88vw); max-block-size: 70vh; overflow: auto; padding: 0.875rem 1rem; background: var(--lamp-paper, Canvas); color: var(--lamp-text, CanvasText); border: 1px solid var(--lamp-line, GrayText); border-radius: 3px; box-shadow: 0 6px 24px rgb(0 0 0 / 0.18); }
.card.wide { inset: auto 0 100% auto; }
h3 { margin: 0 0 0.375rem; font: 600 0.9375rem/1.35 ui-serif, Georgia, serif; overflow-wrap: anywhere; }
h4 { margin: 0.75rem 0 0.25rem; font: 600 0.8125rem/1.5 system-ui, sans-serif; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: 0 0.75rem; margin: 0; }
dd { margin: 0; overflow-wrap: anywhere; }
dt, .quiet { opacity: 0.75; }
ol, ul { margin: 0; padding: 0; list-style: none; }
li { overflow-wrap: anywhere; }
label { display: inline-flex; gap: 0.3rem; margin-inline-end: 0.75rem; align-items: center; }
.acts { display: flex; gap: 0.5rem; margin-block-start: 0.75rem; }
.acts button { padding: 0.125rem 0.625rem; background: none; border: 1px solid var(--lamp-line, GrayText); border-radius: 3px; }
`;
