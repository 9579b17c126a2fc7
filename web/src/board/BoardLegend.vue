<script setup lang="ts">
import DialogCard from '../parts/DialogCard.vue'
import { kinds } from '../theme/kinds'
import { glossary } from '../parts/glossary'

const show = defineModel<boolean>('show', { required: true })

/** The marks of a cell, by what they say. */
const parts: { title: string; marks: { look: string; letter?: string; says: string }[] }[] = [
  {
    title: 'What is declared',
    marks: [
      { look: 'gate open', says: 'gets in' },
      { look: 'gate some', says: 'gets in for an own record, or for some others' },
      { look: 'gate shut', says: 'is turned away' },
      { look: 'gate undecided', says: 'nobody has decided yet who may call: nothing is checked' },
      { look: 'gate oneway', says: 'a page may send, and reads nothing' },
      { look: 'gate user', says: 'a page reads as the user, with the cookies' },
      { look: 'bar', says: 'a quota counts it; the fill is what got through' },
      { look: 'bar none', says: 'no quota counts it at all' },
    ],
  },
  {
    title: 'What was seen',
    marks: [
      { look: 'gate open dot', says: 'agrees, observed' },
      { look: 'gate open ring', says: 'agrees for one of the same class' },
      { look: 'gate open hatched', says: 'unproven' },
      { look: 'gate open', says: 'without a mark: not probed yet' },
      { look: 'kind k-U', letter: 'U', says: 'a gap' },
      { look: 'kind k-U inferred', letter: 'U', says: 'a gap of one of the same class' },
      { look: 'gate shut corner k-L', says: 'a low remark, in the colour of its kind' },
    ],
  },
]
/** What is said of routes in Observe, beside the marks of a gate for what was seen there. */
const today = [
  { word: 'undecided', says: glossary.undecided },
  { word: 'observed', says: glossary.observed },
  { word: 'guessed', says: glossary.guessed, wrong: true },
  { word: 'looks wrong', says: glossary.wrong, wrong: true },
]
</script>

<template>
  <DialogCard v-model:show="show" title="The board's marks" :width="720">
    <div class="parts">
      <section v-for="p in parts" :key="p.title">
        <h2>{{ p.title }}</h2>
        <dl>
          <template v-for="m in p.marks" :key="m.says">
            <dt>
              <i :class="m.look" :style="m.look === 'bar' ? { '--part': 0.6 } : undefined">{{ m.letter }}</i>
            </dt>
            <dd>{{ m.says }}</dd>
          </template>
        </dl>
      </section>
      <section>
        <h2>Gaps, the worst first</h2>
        <dl>
          <template v-for="k in kinds" :key="k.kind">
            <dt>
              <span class="kind" :class="`k-${k.kind}`">{{ k.kind }}</span>
            </dt>
            <dd :title="k.means">{{ k.name }}</dd>
          </template>
        </dl>
      </section>
    </div>
    <section class="words">
      <h2>What the service does today, and what is made of it</h2>
      <dl>
        <template v-for="w in today" :key="w.word">
          <dt>
            <b :class="{ wrong: w.wrong }">{{ w.word }}</b>
          </dt>
          <dd>{{ w.says }}</dd>
        </template>
      </dl>
    </section>
    <p class="faint">
      Beside a route stands the worst gap of this lens; a small square says that another lens has a worse one. One to
      three dots are how sensitive it is.
    </p>
  </DialogCard>
</template>

<style src="./marks.css" scoped></style>

<style scoped>
.parts {
  display: grid;
  grid-template-columns: 1.35fr 1.2fr 0.9fr;
  gap: 20px;
}
h2 {
  margin: 0 0 6px;
  font-size: 13px;
  font-weight: 600;
  color: var(--faint);
}
dl {
  display: grid;
  grid-template-columns: 44px 1fr;
  row-gap: 6px;
  margin: 0;
}
dt {
  display: grid;
  place-items: center;
  height: 22px;
}
dd {
  margin: 0;
  line-height: 22px;
}
.words {
  margin-top: 14px;
}
.words dl {
  grid-template-columns: 90px 1fr;
}
.words dt {
  justify-content: start;
}
.wrong {
  color: var(--P);
}
p {
  margin: 14px 0 0;
}
</style>
