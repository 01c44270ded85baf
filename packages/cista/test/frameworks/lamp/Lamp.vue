<template>
  <cista-lamp entry="hut &quot;h-07&quot;" class="corner" />
</template>
