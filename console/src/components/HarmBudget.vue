<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'

/** How a rollout's harm budget stands: hurt, at risk, and what is left, as one bar; and the wave that goes on. */
const props = defineProps<{ budget: Schemas['HarmBudgetOut'] }>()
const share = (count: number) => `${Math.min(100, (100 * count) / props.budget.at_most)}%`
const wave = computed(() => props.budget.wave ?? null)
</script>

<template>
  <section class="budget" data-testid="harm-budget">
    <h2>Harm budget</h2>
    <div class="bar" role="img" :aria-label="`${budget.hurt} of at most ${budget.at_most} devices hurt`">
      <span class="hurt" :style="{ width: share(budget.hurt) }" />
      <span v-if="budget.sure" class="risk" :style="{ width: share(budget.at_risk) }" />
    </div>
    <p>
      <strong :class="{ bad: budget.hurt }">{{ budget.hurt }}</strong> of at most {{ budget.at_most }} hurt, {{ budget.sure ? 'for sure' : `${100 * budget.certainty} % certain` }}
      <span v-if="budget.used_up" class="bad">· used up</span><span v-else class="quiet">· {{ budget.free }} more may be given leave now</span>
    </p>
    <p v-if="wave" class="quiet">{{ wave.given }} of {{ wave.size }} given leave, {{ wave.undecided }} undecided. {{ wave.words }}</p>
  </section>
</template>

<style scoped>
.budget {
  margin-top: 18px;
}
.bar {
  display: flex;
  height: 8px;
  border-radius: 4px;
  overflow: hidden;
  background: rgba(var(--v-theme-on-surface), 0.1);
  margin-bottom: 6px;
}
.hurt {
  background: rgb(var(--v-theme-error));
}
.risk {
  background: rgb(var(--v-theme-warning));
}
</style>
