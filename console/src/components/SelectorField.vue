<script setup lang="ts">
import { computed, nextTick, onMounted, onScopeDispose, ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { fitting, joins, mistakeAt, placeOf, putIn } from '../selector'

/** A selector with completion of names and values, the mistake under its character, and how many devices it picks. */
const text = defineModel<string>({ required: true })
const emit = defineEmits<{ submit: [] }>()

const PAUSE_MS = 250
const facts = ref<Schemas['FactName'][]>([])
const values = ref<Record<string, string[]>>({})
const field = ref<{ $el: HTMLElement } | null>(null)
const cursor = ref(0)
const open = ref(false)
const chosen = ref(-1)
const count = ref<number | null>(null)
const about = ref(false)
const wrong = ref('')
let waiting = 0

onMounted(async () => {
  facts.value = await told(api.GET('/api/v1/facts')).catch(() => [])
  await ask()
})
onScopeDispose(() => window.clearTimeout(waiting))

const place = computed(() => placeOf(text.value, cursor.value))
const offered = computed(() => {
  if (!open.value) return []
  const { kind, word, name } = place.value
  if (kind === 'value') return fitting(values.value[name] ?? [], word)
  return joins(word) ? [] : fitting(facts.value.map((fact) => fact.name), word)
})
const caret = computed(() => (wrong.value ? mistakeAt(text.value, wrong.value) : null))

watch(place, async ({ kind, name }) => {
  if (kind !== 'value' || name in values.value) return
  values.value[name] = []
  const found = await told(api.GET('/api/v1/facts/{name}', { params: { path: { name } } })).catch(() => [])
  values.value[name] = found.map((one) => one.value)
})
watch(text, () => {
  window.clearTimeout(waiting)
  waiting = window.setTimeout(ask, PAUSE_MS)
})

async function ask() {
  const where = text.value.trim()
  try {
    const page = await told(api.GET('/api/v1/devices', { params: { query: { limit: 1, ...(where ? { where } : {}) } } }))
    count.value = page.total ?? null
    about.value = page.about ?? false
    wrong.value = ''
  } catch (error) {
    wrong.value = (error as Error).message
    count.value = null
  }
}

async function submit() {
  open.value = false
  window.clearTimeout(waiting)
  await ask()
  if (!wrong.value) emit('submit')
}

function input(): HTMLInputElement | null {
  return field.value?.$el.querySelector('input') ?? null
}

// On the input itself: as a property of the field, the role would stand on a frame around it.
watch(
  [field, offered, chosen],
  () => {
    const box = input()
    box?.setAttribute('role', 'combobox')
    box?.setAttribute('aria-autocomplete', 'list')
    box?.setAttribute('aria-controls', 'selector-words')
    box?.setAttribute('aria-expanded', String(offered.value.length > 0))
    if (chosen.value >= 0) box?.setAttribute('aria-activedescendant', `selector-word-${chosen.value}`)
    else box?.removeAttribute('aria-activedescendant')
  },
  { flush: 'post' },
)

function look() {
  cursor.value = input()?.selectionStart ?? text.value.length
  open.value = true
  chosen.value = -1
}

async function take(word: string) {
  const put = putIn(text.value, cursor.value, place.value, word)
  text.value = put.text
  await nextTick()
  input()?.setSelectionRange(put.cursor, put.cursor)
  input()?.focus()
  look()
}

function key(event: KeyboardEvent) {
  const many = offered.value.length
  const word = offered.value[chosen.value]
  if (event.key === 'ArrowDown' && many) chosen.value = (chosen.value + 1) % many
  else if (event.key === 'ArrowUp' && many) chosen.value = (chosen.value + many - 1) % many
  else if ((event.key === 'Enter' || event.key === 'Tab') && word) void take(word)
  else if (event.key === 'Escape') open.value = false
  else return
  event.preventDefault()
}
</script>

<template>
  <form class="selector" @submit.prevent="submit">
    <v-text-field
      ref="field"
      v-model="text"
      label="Selector, then Enter"
      placeholder="board = comb-s1 and site in (fernhollow, quillmere)"
      hide-details
      clearable
      spellcheck="false"
      autocomplete="off"
      @update:model-value="(value) => (text = value ?? '')"
      @input="look"
      @click="look"
      @keydown="key"
      @blur="open = false"
      @click:clear="((text = ''), emit('submit'))"
    >
      <template #append-inner>
        <span v-if="count !== null" class="quiet picked" aria-live="polite">{{ about ? `about ${count.toLocaleString('en')}` : count }} {{ count === 1 ? 'device' : 'devices' }}</span>
      </template>
    </v-text-field>
    <ul v-show="offered.length" id="selector-words" role="listbox" aria-label="What can come next" class="offered">
      <li
        v-for="(word, index) in offered"
        :id="`selector-word-${index}`"
        :key="word"
        role="option"
        :aria-selected="index === chosen"
        :class="{ chosen: index === chosen }"
        @mousedown.prevent="take(word)"
      >
        {{ word }}
      </li>
    </ul>
    <div v-if="wrong && !offered.length" class="wrong" role="alert">
      <pre v-if="caret !== null" aria-hidden="true">{{ text }}{{ '\n' + ' '.repeat(caret) + '▲' }}</pre>
      {{ wrong }}
    </div>
  </form>
</template>

<style scoped>
.selector {
  position: relative;
}
.picked {
  white-space: nowrap;
}
.offered {
  position: absolute;
  z-index: 10;
  top: 54px;
  left: 8px;
  min-width: 220px;
  padding: 6px 0;
  list-style: none;
  background: rgb(var(--v-theme-surface));
  border: 1px solid var(--stone);
  border-radius: 8px;
}
.offered li {
  padding: 4px 14px;
  cursor: pointer;
}
.offered li:hover,
.offered .chosen {
  background: color-mix(in srgb, var(--honey) 25%, transparent);
}
.wrong {
  margin: 6px 14px 0;
  color: var(--rose);
}
.wrong pre {
  font-size: 13px;
  line-height: 1.15;
  overflow-x: auto;
}
</style>
