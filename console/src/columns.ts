import { ref, watch } from 'vue'

/** A column of the fleet's table; `order` is what the service sorts by, where it can. */
export type Column = { name: string; title: string; order?: string; count?: boolean }

export const COLUMNS: Column[] = [
  { name: 'board', title: 'Board', order: 'board' },
  { name: 'line', title: 'Line', order: 'line' },
  { name: 'hw_rev', title: 'Rev', order: 'hw_rev', count: true },
  { name: 'presence', title: 'Presence' },
  { name: 'heard', title: 'Heard', order: 'seen' },
  { name: 'runs', title: 'Runs', order: 'version' },
  { name: 'floor', title: 'Floor', order: 'floor', count: true },
  { name: 'digest', title: 'Digest' },
  { name: 'admission', title: 'Admission', order: 'admission' },
  { name: 'attempt', title: 'Newest attempt' },
]
const USUAL = ['board', 'hw_rev', 'label.site', 'label.yard', 'presence', 'heard', 'runs', 'attempt']
const KEPT = 'herald-fleet-columns'

/** A column for a label by its key. */
export function labelColumn(key: string): Column {
  return { name: `label.${key}`, title: key, order: `label.${key}` }
}

/** The columns chosen on this browser, and a way to choose others; they are remembered. */
export function useColumns() {
  const chosen = ref<string[]>(remembered())
  watch(chosen, (names) => localStorage.setItem(KEPT, JSON.stringify(names)), { deep: true })
  return chosen
}

function remembered(): string[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(KEPT) ?? '')
    if (Array.isArray(kept) && kept.every((one) => typeof one === 'string')) return kept
  } catch {
    // Nothing was kept, or something else wrote there.
  }
  return [...USUAL]
}

/** The order after a click on a column's head: up, then down, then as usual. */
export function turned(order: string, by: string): string {
  if (order === by) return `-${by}`
  return order === `-${by}` ? '' : by
}
