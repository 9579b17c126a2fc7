<template>
  <!-- A gate seen from the front: two posts, and a bar that is down, up, or up for some. -->
  <svg class="visually-hidden" aria-hidden="true">
    <symbol id="gate-shut" viewBox="0 0 20 20">
      <path class="post" d="M3.5 3v11M16.5 3v11" />
      <path class="bar" d="M3.5 8.5h13" />
    </symbol>
    <symbol id="gate-open" viewBox="0 0 20 20">
      <path class="post" d="M3.5 5v9M16.5 3v11" />
      <path class="lift" d="M3.5 9L15.5 1.5" />
    </symbol>
    <symbol id="gate-some" viewBox="0 0 20 20">
      <path class="post" d="M3.5 5v9M16.5 3v11" />
      <path class="lift some" d="M3.5 9L15.5 1.5" />
    </symbol>
  </svg>
</template>

<style>
symbol .post {
  stroke: currentColor;
  stroke-width: 1.6;
}
symbol .bar {
  stroke: currentColor;
  stroke-width: 4;
}
symbol .lift {
  stroke: currentColor;
  stroke-width: 1.6;
}
symbol .some {
  stroke-dasharray: 2.4 1.8;
}
</style>
