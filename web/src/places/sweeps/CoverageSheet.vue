<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Coverage } from '../../api/client'
import CoverageBars from '../../parts/CoverageBars.vue'
import { all, checked } from '../../parts/coverage'

// What a sweep really checked, counted in one of three ways.
const props = defineProps<{ coverage: Coverage }>()
const ways = [
  { of: 'kinds', says: 'by kind of check' },
  { of: 'groups', says: 'by group of routes' },
  { of: 'owasp', says: 'by OWASP API Top 10' },
] as const
const way = ref<(typeof ways)[number]['of']>('kinds')
const whole = computed(() => props.coverage.whole)
</script>

<template>
  <section>
    <h2>Coverage</h2>
    <p>
      <b :class="{ little: checked(whole) < 80 }">{{ checked(whole) }}% of {{ all(whole) }} crossings</b> were checked:
      {{ whole.proven }} proven, {{ whole.inferred }} inferred; {{ whole.unproven }} are unproven,
      {{ whole.unsent }} were not sent, {{ whole.left }} were left out<template v-if="whole.undecided"
        >, and of {{ whole.undecided }} nobody has decided what is to happen</template
      >.
    </p>
    <p class="ways" role="group" aria-label="Counted">
      <button
        v-for="w in ways"
        :key="w.of"
        class="bare"
        :class="{ on: way === w.of }"
        :aria-pressed="way === w.of"
        @click="way = w.of"
      >
        {{ w.says }}
      </button>
    </p>
    <CoverageBars :list="coverage[way]" class="bars" />
  </section>
</template>

<style scoped>
section {
  margin-bottom: 14px;
}
p {
  margin: 0 0 6px;
}
.little {
  color: var(--P);
}
.ways {
  display: flex;
  gap: 14px;
  font-size: 12px;
  color: var(--faint);
}
.ways .on {
  color: var(--mill);
  font-weight: 600;
}
.bars {
  grid-template-columns: repeat(auto-fill, minmax(230px, 1fr));
}
</style>
