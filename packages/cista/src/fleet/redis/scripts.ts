/**
 * The steps that Redis takes in one go, as Lua: each is one round trip. All keys of one fleet bear one hash tag, so that they are in one
 * slot of a cluster. Versions are microseconds of Redis' own clock, or one more than the last: they go up over a loss of
 * everything (rule T5). See docs/fleet-protocol.md.
 */

/** A text that is no number, or no possible version, is as if it were not there; and so is a key of another type. */
const common = `
local t = redis.call('TIME')
local micro = t[1] * 1000000 + t[2]
local now = math.floor(micro / 1000)
local latest = micro + 31536000000000
local function text(n) return string.format('%.0f', n) end
local function number(said, most)
  local n = tonumber(said or '')
  if n and n >= 0 and n <= (most or 9007199254740991) then return n end
end
local function read(command, key, ...)
  local said = redis.pcall(command, key, ...)
  if type(said) ~= 'table' or not said.err then return said end
  if string.sub(said.err, 1, 9) ~= 'WRONGTYPE' then return redis.call(command, key, ...) end
  redis.call('UNLINK', key)
  return false
end
`;

const versions = `
local function next_version(key, least)
  local n = math.max((number(read('GET', key), latest) or 0) + 1, micro, least)
  redis.call('SET', key, text(n))
  return text(n)
end
`;

/**
 * The labels' versions stand in one hash, which Redis lets go of as a whole or not at all; `since` is when it began. What is
 * older than that may have been invalidated, and nobody knows: to be safe, it was. So it is with a version that is no
 * number.
 */
const labels = `
local function is_good(key, counter, lines, version)
  local fields, good = { 'since' }, true
  local function look()
    local said = read('HMGET', key, unpack(fields)) or {}
    for n = 1, #fields do
      local at = said[n] and number(said[n], latest)
      if said[n] and not at then
        at = tonumber(next_version(counter, 0))
        redis.call('HSET', key, fields[n], text(at))
      end
      if (at and at > version) or (not at and fields[n] == 'since') then good = false end
    end
    fields = {}
  end
  for label in string.gmatch(lines, '[^\\n]+') do
    fields[#fields + 1] = '=' .. label
    if #fields == 1000 then look() end
  end
  look()
  return good
end
local function begin(key, counter)
  local since = read('HGET', key, 'since')
  if not since then redis.call('HSET', key, 'since', next_version(counter, 0)) end
end
`;

/**
 * KEYS entry, lease, own, failed, counter, labels. ARGV holder, lease in ms, "1" where it has waited.
 * → state, version, age, labels, meta, value, token, what is left of another's lease in ms.
 */
const take = `${common}${versions}${labels}
local e = read('HMGET', KEYS[1], 'n', 's', 'a', 'l', 'g', 'i', 'm', 'v') or {}
local version, stored, was, length = number(e[1], latest), number(e[2], now + 86400000), number(e[3]), number(e[4])
local state, age = 'none', 0
if version and stored and was and length and e[7] and e[8] then
  age = was + math.max(0, now - stored)
  state = age < length and 'fresh' or 'stale'
  local out_of_date = e[6] and (number(e[6], latest) or latest) or 0
  if out_of_date > version or not is_good(KEYS[6], KEYS[5], e[5] or '', version) then state = 'invalid' end
  if state == 'fresh' then return { state, e[1], text(age), e[5] or '', e[7], e[8] } end
else e = {} end
if redis.call('EXISTS', KEYS[3]) == 1 then return { 'own' } end
local found = { state, e[1] or '', text(age), e[5] or '', e[7] or '', e[8] or '' }
if read('GET', KEYS[2]) then
  local left = redis.call('PTTL', KEYS[2])
  -- One that does not end is nobody's.
  if left < 0 or left > 3600000 then
    redis.call('PEXPIRE', KEYS[2], ARGV[2])
    left = tonumber(ARGV[2])
  end
  found[7] = ''
  found[8] = text(left)
  return found
end
if ARGV[3] == '1' then
  local failure = read('GET', KEYS[4])
  if failure then return { 'failed', failure } end
end
begin(KEYS[6], KEYS[5])
local token = next_version(KEYS[5], 0)
redis.call('SET', KEYS[2], ARGV[1] .. ' ' .. token, 'PX', ARGV[2])
found[7] = token
return found`;

/** KEYS lease, counter, labels. ARGV holder, lease in ms. → token */
const anew = `${common}${versions}${labels}
begin(KEYS[3], KEYS[2])
local token = next_version(KEYS[2], 0)
redis.call('SET', KEYS[1], ARGV[1] .. ' ' .. token, 'PX', ARGV[2])
return token`;

/** KEYS entry, lease, own, told, labels, counter. ARGV "holder token", token, value, meta, age, lifetime, keep, labels, id. → what became of it */
const put = `${common}${versions}${labels}
local said = 'stored'
local token = tonumber(ARGV[2])
local before = read('HMGET', KEYS[1], 'n', 'i') or {}
if read('GET', KEYS[2]) ~= ARGV[1] then said = 'lost'
elseif (number(before[1], latest) or 0) >= token then said = 'older'
elseif (number(before[2], latest) or 0) > token then said = 'invalidated'
elseif not is_good(KEYS[5], KEYS[6], ARGV[8], token) then said = 'invalidated' end
if said == 'stored' then
  redis.call('DEL', KEYS[1], KEYS[3])
  redis.call('HSET', KEYS[1], 'n', ARGV[2], 's', text(now), 'a', ARGV[5], 'l', ARGV[6], 'g', ARGV[8], 'm', ARGV[4], 'v', ARGV[3])
  redis.call('PEXPIRE', KEYS[1], ARGV[7])
end
if redis.call('GET', KEYS[2]) == ARGV[1] then redis.call('DEL', KEYS[2]) end
redis.call('PUBLISH', KEYS[4], ARGV[9])
return said`;

/** KEYS lease, own, failed, told. ARGV "holder token", ms of own, failure, id. */
const release = `${common}
if read('GET', KEYS[1]) == ARGV[1] then
  redis.call('DEL', KEYS[1])
  if ARGV[3] ~= '' then redis.call('SET', KEYS[3], ARGV[3], 'PX', 1000) end
end
if ARGV[2] ~= '0' then redis.call('SET', KEYS[2], '1', 'PX', ARGV[2]) end
redis.call('PUBLISH', KEYS[4], ARGV[4])
return 1`;

/** KEYS lease. ARGV "holder token", lease in ms. → 1 where it is still ours */
const renew = `${common}
if read('GET', KEYS[1]) == ARGV[1] then return redis.call('PEXPIRE', KEYS[1], ARGV[2]) end
return 0`;

/** The stream's last entry: its version, and how many bytes all had up to it. One whose version cannot be ends the stream. */
const stream = `
local function field(entry, name)
  for i = 1, #entry[2], 2 do if entry[2][i] == name then return entry[2][i + 1] end end
end
local function newest_in(key)
  local last = read('XREVRANGE', key, '+', '-', 'COUNT', 1)
  if not last or not last[1] then return nil, 0 end
  local version = string.match(last[1][1], '^%d+')
  if number(version, latest) then return version, number(field(last[1], 'c')) or 0 end
  redis.call('UNLINK', key)
  return nil, 0
end
`;

/**
 * KEYS counter, stream, told, labels. ARGV prefix, holder, labels, ids, how long entries are kept in ms. → version
 */
const invalidate = `${common}${versions}${stream}
local before, bytes = newest_in(KEYS[2])
local version = next_version(KEYS[1], tonumber(before or '0') + 1)
if not read('HGET', KEYS[4], 'since') then redis.call('HSET', KEYS[4], 'since', version) end
for label in string.gmatch(ARGV[3], '[^\\n]+') do
  redis.call('HSET', KEYS[4], '=' .. label, version, '=\\2', version)
  if label == '\\1' then redis.call('HSET', KEYS[4], 'since', version) end
end
for id in string.gmatch(ARGV[4], '[^\\n]+') do
  local key = ARGV[1] .. 'e:' .. id
  if redis.call('EXISTS', key) == 1 then
    local noted = redis.pcall('HSET', key, 'i', version)
    if type(noted) == 'table' and noted.err then redis.call('UNLINK', key) end
  end
  redis.call('DEL', ARGV[1] .. 'l:' .. id)
end
-- Nothing is kept for longer: what is older than that says nothing any more. A slice of many is looked at each time.
if redis.call('HLEN', KEYS[4]) > 10000 then
  local oldest = tonumber(version) - tonumber(ARGV[5]) * 1000
  local cursor = string.match(redis.call('HGET', KEYS[4], 'cursor') or '', '^%d+$') or '0'
  local slice = redis.call('HSCAN', KEYS[4], cursor, 'COUNT', 100)
  redis.call('HSET', KEYS[4], 'cursor', slice[1])
  for i = 1, #slice[2], 2 do
    local name = slice[2][i]
    if string.sub(name, 1, 1) == '=' and (number(slice[2][i + 1]) or 0) < oldest then redis.call('HDEL', KEYS[4], name) end
  end
  if redis.call('HLEN', KEYS[4]) > 100000 then
    redis.call('UNLINK', KEYS[4])
    redis.call('HSET', KEYS[4], 'since', version)
  end
end
bytes = bytes + #ARGV[3] + #ARGV[4] + 100
redis.call('XADD', KEYS[2], 'MAXLEN', '~', 10000, version .. '-0',
  'p', before or '0', 'h', ARGV[2], 'g', ARGV[3], 'k', ARGV[4], 'c', text(bytes))
local first = redis.call('XRANGE', KEYS[2], '-', '+', 'COUNT', 1)
if bytes - (number(field(first[1], 'c')) or 0) > 33554432 then
  redis.call('XTRIM', KEYS[2], 'MAXLEN', math.floor(redis.call('XLEN', KEYS[2]) / 2))
end
redis.call('PUBLISH', KEYS[3], '')
return version`;

/**
 * KEYS members. ARGV holder, version, for how long one is believed in ms. → 1 where all others have heard. Of a list that has
 * begun only lately, the processes missing in it are unknown.
 */
const heard = `${common}
local all = read('HGETALL', KEYS[1]) or {}
local begun, by_all = nil, 1
for i = 1, #all, 2 do
  if all[i] == 'since' then begun = number(all[i + 1], now)
  else
    local seen, version = string.match(all[i + 1], '^(%d+) (%d+) ')
    local since = now - (number(seen, now + 60000) or 0)
    if since > 60000 then redis.call('HDEL', KEYS[1], all[i])
    elseif all[i] ~= ARGV[1] and since < tonumber(ARGV[3]) and tonumber(version) < tonumber(ARGV[2]) then by_all = 0 end
  end
end
if now - (begun or now) < tonumber(ARGV[3]) then return 0 end
return by_all`;

/**
 * KEYS stream, members, counter. ARGV holder, the last that was heard ("" at first), about.
 * → ms now, last, "1" where some are missing, then each: version, holder, labels, ids. Up to about a million characters.
 */
const news = `${common}${versions}${stream}
local newest = newest_in(KEYS[1])
if not newest then
  -- So that everybody has heard of something, by which a stream that has begun anew is known.
  newest = next_version(KEYS[3], 0)
  redis.call('XADD', KEYS[1], newest .. '-0', 'p', '0', 'h', '', 'g', '', 'k', '', 'c', '0')
end
local heard = ARGV[2] == '' and newest or ARGV[2]
if not number(read('HGET', KEYS[2], 'since'), now) then redis.call('HSET', KEYS[2], 'since', text(now)) end
redis.call('HSET', KEYS[2], ARGV[1], text(now) .. ' ' .. heard .. ' ' .. ARGV[3])
redis.call('PEXPIRE', KEYS[2], 3600000)
local said = { text(now), heard, '0' }
if newest == heard then return said end
if tonumber(newest) < tonumber(heard) then return { said[1], newest, '1' } end
local length = 0
for n, entry in ipairs(redis.call('XRANGE', KEYS[1], '(' .. heard .. '-0', '+', 'COUNT', 500)) do
  if n == 1 and field(entry, 'p') ~= heard then said[3] = '1' end
  said[2] = string.match(entry[1], '^%d+')
  said[#said + 1] = said[2]
  for _, name in ipairs({ 'h', 'g', 'k' }) do
    said[#said + 1] = field(entry, name) or ''
    length = length + #said[#said]
  end
  if length > 1000000 then break end
end
return said`;

export type ScriptName = "take" | "anew" | "put" | "release" | "renew" | "invalidate" | "heard" | "news";
export const scripts: Readonly<Record<ScriptName, string>> = {
  take,
  anew,
  put,
  release,
  renew,
  invalidate,
  heard,
  news,
};
