-- Forgets answers by their digests, or all of a path.
-- KEYS: the start of an answer's name, uses, what is known of each, the bytes of all, the answers of a path (or ''), hits
-- ARGV: digests
local digests = ARGV
if #ARGV == 0 then
  digests = redis.call('SMEMBERS', KEYS[5])
  redis.call('DEL', KEYS[5])
end
local gone = 0
for _, digest in ipairs(digests) do
  local about = redis.call('HGET', KEYS[3], digest)
  redis.call('DEL', KEYS[1] .. digest)
  redis.call('ZREM', KEYS[2], digest)
  if about then
    redis.call('HDEL', KEYS[3], digest)
    redis.call('HDEL', KEYS[6], digest)
    redis.call('DECRBY', KEYS[4], string.match(about, '^%d+'))
    gone = gone + 1
  end
end
return gone
