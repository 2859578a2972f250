/** Where labels beside given heights stand, none on another and none below a foot: each as near as it
 * can be. Heights rise downwards, as on the page. */
export function spaced(heights: number[], gap: number, foot: number): number[] {
  const order = heights.map((_, i) => i).sort((a, b) => (heights[a] ?? 0) - (heights[b] ?? 0));
  const found = [...heights];
  let least = -Infinity;
  for (const i of order) {
    found[i] = Math.max(heights[i] ?? 0, least);
    least = (found[i] ?? 0) + gap;
  }
  let most = foot;
  for (const i of order.reverse()) {
    found[i] = Math.min(found[i] ?? 0, most);
    most = (found[i] ?? 0) - gap;
  }
  return found;
}
