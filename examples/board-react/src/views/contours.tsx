/** The hills, as a map would draw them. */
export function Contours() {
  return (
    <svg className="contours" viewBox="0 0 600 80" preserveAspectRatio="xMaxYMid slice" aria-hidden="true">
      {[0, 1, 2, 3, 4, 5].map((ring) => (
        <path
          key={ring}
          d={`M${-20 + ring * 34} 96C${80 + ring * 26} ${20 + ring * 9},${190 + ring * 8} ${-6 + ring * 13},${300 - ring * 4} ${34 + ring * 8}S${470 - ring * 22} ${-14 + ring * 15},${620 - ring * 36} 96`}
        />
      ))}
    </svg>
  );
}
