<script setup lang="ts">
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { useTheme } from 'vuetify'

import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { effectInWords, number, sides } from '../readings'

/** What a rollout did to a signal: its devices aligned at their switch, and those that have not switched, median and
 * quartiles, with the difference that the update made. */
const props = defineProps<{ rolloutId: number }>()
const SPANS = [
  { value: '1h', title: '1 hour' },
  { value: '6h', title: '6 hours' },
  { value: '1d', title: '1 day' },
  { value: '7d', title: '7 days' },
]
const HEIGHT = 240
const AGAIN_MS = 15_000
const names = ref<string[]>([])
const route = useRoute()
const signal = ref('')
const wanted = computed(() => (typeof route.query.signal === 'string' ? route.query.signal : ''))
const span = ref('6h')
const change = ref<Schemas['ChangeOut'] | null>(null)
const place = ref<HTMLDivElement | null>(null)
const theme = useTheme()
let plot: uPlot | null = null
let drawnAs = ''
let watching: ResizeObserver | null = null

const { failure, reload } = useLoading(async () => {
  const known = await told(api.GET('/api/v1/signals', {}))
  names.value = [...new Set(known.filter((one) => one.sent && one.kind === 'number').map((one) => one.name))]
  if (names.value.includes(wanted.value) && !signal.value) signal.value = wanted.value
  if (!names.value.includes(signal.value)) signal.value = names.value.includes('battery') ? 'battery' : (names.value[0] ?? '')
  if (!signal.value) return
  change.value = await told(
    api.GET('/api/v1/rollouts/{rollout_id}/readings', { params: { path: { rollout_id: props.rolloutId }, query: { signal: signal.value, span: span.value } } }),
  )
})
watch(wanted, (name) => names.value.includes(name) && (signal.value = name))
watch([signal, span, () => props.rolloutId], reload)
watch([change, () => theme.global.name.value], draw, { flush: 'post' })
const timer = window.setInterval(() => !document.hidden && void reload(), AGAIN_MS)

const rows = computed(() => {
  const found = change.value
  if (!found) return []
  return [
    { what: `${found.unit} a day`, effect: found.per_day },
    { what: `${found.unit} on average`, effect: found.level },
  ]
})

function draw() {
  const found = change.value
  const looks = `${found?.unit} ${theme.global.name.value}`
  if (plot && found?.updated.length && looks === drawnAs && plot.root.parentElement === place.value) {
    // The same lines further on: whoever points at them keeps their cursor.
    plot.setData(sides(found))
    return
  }
  plot?.destroy()
  plot = null
  drawnAs = looks
  if (!found || !place.value || !found.updated.length) return
  const dark = theme.global.current.value.dark
  const ink = dark ? '#c9d1d9' : '#3c4650'
  const grid = { stroke: dark ? '#ffffff14' : '#00000012', width: 1 }
  const axis = { stroke: ink, grid, ticks: grid, font: '12px "Inter Variable", sans-serif' }
  const colours = ['hsl(18 72% 46%)', 'hsl(205 55% 48%)']
  const edge = { stroke: 'transparent', width: 0, points: { show: false }, label: '', class: 'edge' }
  const value = (_: uPlot, at: number | null) => (at === null || at === undefined ? '–' : `${Number(at.toPrecision(5))} ${found.unit}`)
  plot = new uPlot(
    {
      width: place.value.clientWidth,
      height: HEIGHT,
      scales: { x: { time: false } },
      series: [
        { label: 'hours after the switch', value: (_, at) => (at === null ? '–' : at.toFixed(2)) },
        ...['updated', 'not updated'].flatMap((label, at) => [edge, edge, { label, stroke: colours[at], width: 2, value }]),
      ],
      bands: [0, 1].map((at) => ({ series: [2 + 3 * at, 1 + 3 * at] as [number, number], fill: (colours[at] ?? '').replace(')', ' / 0.16)') })),
      axes: [{ ...axis, label: 'hours after the switch', labelFont: axis.font, labelSize: 18 }, { ...axis, label: `${found.unit} since the switch`, labelFont: axis.font, labelSize: 18, size: 62 }],
      cursor: { drag: { x: false, y: false } },
      hooks: {
        draw: [
          (self) => {
            const left = self.valToPos(0, 'x', true)
            self.ctx.save()
            self.ctx.strokeStyle = ink
            self.ctx.setLineDash([4, 4])
            self.ctx.beginPath()
            self.ctx.moveTo(left, self.bbox.top)
            self.ctx.lineTo(left, self.bbox.top + self.bbox.height)
            self.ctx.stroke()
            self.ctx.restore()
          },
        ],
      },
    },
    sides(found),
    place.value,
  )
}

onMounted(() => {
  watching = new ResizeObserver(() => {
    if (plot && place.value && place.value.clientWidth > 0) plot.setSize({ width: place.value.clientWidth, height: HEIGHT })
  })
  if (place.value) watching.observe(place.value)
})
onBeforeUnmount(() => {
  window.clearInterval(timer)
  watching?.disconnect()
  plot?.destroy()
})
</script>

<template>
  <section v-show="names.length" id="before-and-after" data-testid="before-and-after">
    <v-card class="panel mb-5">
      <h2>Before and after</h2>
      <div class="row mb-2">
        <v-select v-model="signal" :items="names" label="Signal" density="compact" hide-details class="pick" />
        <v-select v-model="span" :items="SPANS" label="Before and after the switch" density="compact" hide-details class="pick" />
        <span v-if="change" class="quiet">{{ change.devices }} updated, {{ change.control_devices }} not updated at the same time; how far each is from what it had at its switch: medians, and quartiles around them</span>
      </div>
      <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
      <p v-else-if="change && !change.devices" class="quiet">None of its devices has sent {{ signal }} around its switch.</p>
      <div ref="place" class="plot" />
      <table v-if="change?.devices" class="effects">
        <thead>
          <tr><th scope="col" /><th scope="col">updated before</th><th scope="col">after</th><th scope="col">not updated before</th><th scope="col">after</th><th scope="col">what the update did (95 %)</th></tr>
        </thead>
        <tbody>
          <tr v-for="row in rows" :key="row.what">
            <td>{{ row.what }}</td>
            <td v-for="(side, at) in [row.effect.before, row.effect.after, row.effect.control_before, row.effect.control_after]" :key="at">
              {{ side ? number(side.median) : '–' }}
            </td>
            <td><strong>{{ effectInWords(row.effect) }}</strong></td>
          </tr>
        </tbody>
      </table>
    </v-card>
  </section>
</template>

<style scoped>
.pick {
  max-width: 240px;
}
.plot {
  width: 100%;
}
.plot :deep(.u-legend) {
  text-align: left;
  font-size: 11px;
}
.plot :deep(.u-series.edge) {
  display: none;
}
.effects {
  border-collapse: collapse;
}
.effects th,
.effects td {
  padding: 3px 18px 3px 0;
  text-align: left;
  font-variant-numeric: tabular-nums;
}
</style>
