<script setup lang="ts">
import { NConfigProvider, NMessageProvider } from 'naive-ui'
import { onBeforeUnmount } from 'vue'
import Shell from './Shell.vue'
import { follow } from './stores/live'
import { naiveTheme, overrides } from './theme/theme'

onBeforeUnmount(follow())
</script>

<template>
  <NConfigProvider :theme="naiveTheme" :theme-overrides="overrides" style="height: 100%">
    <NMessageProvider placement="top" :duration="6000" keep-alive-on-hover :container-style="{ top: '6px' }">
      <Shell />
    </NMessageProvider>
  </NConfigProvider>
</template>
