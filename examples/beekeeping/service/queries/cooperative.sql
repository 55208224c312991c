-- gate BestApiaries(since date) -> rows
-- BestApiaries ranks the apiaries by what they yielded since a day.
select a.name, sum(h.weight_kg) as total, count(*) as harvests, max(h.moisture_pct) as wettest
from harvest h
join hive on hive.id = h.hive_id
join apiary a on a.id = hive.apiary_id
where h.harvested_on >= :since
group by a.id, a.name
order by total desc, a.name

-- gate SearchHives(name?, temperament?, frames?, sort order(name = h.name, heaviest = coalesce(h.weight_kg, 0) desc), most) -> rows
-- SearchHives finds hives for a search form, each with its apiary and its queen, if it has one.
-- What is left out narrows nothing.
select h.*, apiary.*, queen.*, (select count(*) from inspection i where i.hive_id = h.id) as visits
from hive h
join apiary on apiary.id = h.apiary_id
left join queen on queen.hive_id = h.id
where h.is_active
  and h.name like :name
  and h.temperament = :temperament
  and h.frames >= :frames
order by :sort, h.id
limit :most

-- gate HivesOfKeepers(keepers) -> rows
-- HivesOfKeepers finds the hives in the apiaries of some keepers.
select h.*
from hive h
join apiary a on a.id = h.apiary_id
where a.keeper_id in (:keepers)
order by h.id

-- gate LastInspection(hive_id) -> row?
-- LastInspection is the newest inspection of a hive.
select * from inspection where hive_id = :hive_id order by done_on desc, id desc limit 1

-- gate CloseHives(apiary_id) -> count
-- CloseHives takes the hives of an apiary out of use.
update hive set is_active = false where apiary_id = :apiary_id and is_active
