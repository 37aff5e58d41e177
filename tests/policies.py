"""Policies that several tests ask."""

import bloodroot

TEXT = """
policy "Tarn Bank"

roles
  helper     default
  grower     includes helper
  keeper     includes grower
  clerk      includes helper
  reviewer
  apart      clerk, reviewer

groups
  "field-staff"   grower

permissions
  lot:read        helper, reviewer
  lot:edit        keeper
  plot:edit       keeper, grower if own-plot
  parcel:*        clerk
  parcel:weigh    grower
  memo:read       anyone

conditions
  own-plot        record.grower_id == caller.id       "Only its grower may change a plot."
  self            path.person_id == caller.id
  ready           own-plot and record.state in ["dug", "sown"]
  active          caller.status == "active"           "Your account is asleep."

endpoints
  GET         /                         anyone
  GET POST    /sign-in                  signed-out
  POST        /sign-out                 signed-in
  GET         /lots                     lot:read
  GET         /lots/new                 lot:edit
  GET         /lots/{lot_id}            lot:read
  GET         /lots/{lot_id}.csv        reviewer
  PUT PATCH   /lots/{lot_id}            lot:edit
  any         /lots/*/history           nobody
  any         /lots/**                  keeper
  PATCH       /plots/{plot_id}          plot:edit
  POST        /plots/{plot_id}/sow      grower and ready
  POST        /parcels                  parcel:send
  POST        /parcels/weigh            parcel:weigh
  GET         /people/{person_id}       clerk or self
  DELETE      /people/{person_id}       clerk and not self
  GET         /rota                     not clerk
  GET         /memos                    memo:read

always
  POST PUT PATCH DELETE  /plots/**      active
  /parcels/**                           active
"""

POLICY = bloodroot.parse(TEXT, "tarn.bloodroot")
