<script setup lang="ts">
import { taking, takes, type PlanRing, type Takes } from '../plan'

/** The rings of a plan, in order. */
const rings = defineModel<PlanRing[]>({ required: true })

const WAYS: { value: Takes; title: string }[] = [
  { value: 'where', title: 'by selector' },
  { value: 'serials', title: 'by list' },
  { value: 'count', title: 'so many' },
  { value: 'share', title: 'a share' },
  { value: 'rest', title: 'the rest' },
]

const OPENS = [
  { value: 'by-itself', title: 'itself' },
  { value: 'by-hand', title: 'by hand' },
]

function change(position: number, values: Partial<PlanRing>) {
  rings.value = rings.value.map((ring, n) => (n === position ? { ...ring, ...values } : ring))
}
function take(position: number, how: Takes) {
  rings.value = rings.value.map((ring, n) => (n === position ? taking(ring, how) : ring))
}
function remove(position: number) {
  rings.value = rings.value.filter((_, n) => n !== position)
}
function add() {
  const last = rings.value[rings.value.length - 1]
  const more = { name: `ring ${rings.value.length + 1}`, count: 10, soak: '1h' } as PlanRing
  // Whoever takes the rest stays last.
  rings.value = last && takes(last) === 'rest' ? [...rings.value.slice(0, -1), more, last] : [...rings.value, more]
}
function listOf(text: string): string[] {
  return text.split(/[\s,]+/).filter(Boolean)
}
</script>

<template>
  <fieldset v-for="(ring, position) in rings" :key="position" class="ring">
    <legend class="hidden">Ring {{ position + 1 }}</legend>
    <div class="line">
      <strong class="number-of">{{ position + 1 }}</strong>
      <v-text-field :model-value="ring.name" label="Name" hide-details @update:model-value="(name) => change(position, { name })" />
      <v-select :model-value="takes(ring)" :items="WAYS" label="Takes" hide-details @update:model-value="(how) => take(position, how)" />
      <v-text-field
        v-if="takes(ring) === 'where'"
        class="wide"
        :model-value="ring.where"
        label="Selector"
        placeholder="has bench"
        hide-details
        @update:model-value="(where) => change(position, { where })"
      />
      <v-text-field
        v-else-if="takes(ring) === 'serials'"
        class="wide"
        :model-value="ring.serials?.join(' ')"
        label="Serials"
        hide-details
        @update:model-value="(text) => change(position, { serials: listOf(text) })"
      />
      <v-text-field
        v-else-if="takes(ring) === 'count'"
        type="number"
        :model-value="ring.count"
        label="Devices"
        min="1"
        hide-details
        @update:model-value="(count) => change(position, { count: Number(count) })"
      />
      <v-text-field
        v-else-if="takes(ring) === 'share'"
        type="number"
        :model-value="Math.round(1000 * (ring.share ?? 0)) / 10"
        label="Percent of all"
        min="0"
        max="100"
        hide-details
        @update:model-value="(percent) => change(position, { share: Number(percent) / 100 })"
      />
      <v-btn size="small" variant="text" :aria-label="`Remove ring ${position + 1}`" :disabled="rings.length === 1" @click="remove(position)">remove</v-btn>
    </div>
    <div class="line second">
      <v-text-field :model-value="ring.soak ?? '10m'" label="Soak" hide-details @update:model-value="(soak) => change(position, { soak })" />
      <v-text-field
        type="number"
        :model-value="Math.round(100 * (ring.enough ?? 0.9))"
        label="Enough %"
        hide-details
        @update:model-value="(enough) => change(position, { enough: Number(enough) / 100 })"
      />
      <v-text-field
        :model-value="ring.spread_over?.join(' ')"
        label="Spread over"
        placeholder="hw_rev site"
        hide-details
        @update:model-value="(text) => change(position, { spread_over: listOf(text) })"
      />
      <v-select
        :model-value="ring.opens ?? 'by-itself'"
        :items="OPENS"
        label="Opens"
        hide-details
        @update:model-value="(opens) => change(position, { opens })"
      />
      <v-text-field
        :model-value="ring.not_before"
        label="Not before"
        placeholder="2026-12-01T09:00"
        hide-details
        @update:model-value="(moment) => change(position, { not_before: moment || null })"
      />
    </div>
  </fieldset>
  <v-btn size="small" @click="add">Add a ring</v-btn>
</template>

<style scoped>
.ring {
  border: 0;
  border-left: 3px solid var(--honey);
  padding: 2px 0 2px 10px;
  margin: 0 0 14px;
}
.hidden {
  position: absolute;
  clip-path: inset(50%);
}
.line {
  display: flex;
  gap: 8px;
  align-items: center;
}
.line > * {
  flex: 1 1 0;
  min-width: 0;
}
.line > .wide {
  flex: 2 1 0;
}
.line > .number-of,
.line > .v-btn {
  flex: 0 0 auto;
}
.second {
  margin-top: 8px;
}
.line > :nth-child(3) {
  flex-grow: 1.3;
}
.second > :nth-child(n + 3) {
  flex-grow: 1.6;
}
</style>
